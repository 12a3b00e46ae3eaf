"""The cameras of files that are kept or put aside, worked out with the sets that their recipes add."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from anaxis.app.context import Context
from anaxis.core.camera.lens import Image
from anaxis.core.checks import Expected
from anaxis.core.recipe.effects import sets_of
from anaxis.core.recipe.model import Recipe
from anaxis.library.scene_report import CameraSummary, FileCamera, look
from anaxis.store.models import SourceFile, Version
from anaxis.store.queries import recipe_of, set_finder


def looked_at(
    context: Context,
    name: str,
    scene: bytes,
    recipes: Mapping[str, Recipe],
    expected: Expected = Expected(),  # noqa: B008  (frozen)
    image: Image | None = None,
    only: str | None = None,
    tracks: Sequence[str] | None = None,
) -> list[CameraSummary]:
    """See :func:`anaxis.library.scene_report.look`; ``name`` is the file's."""
    sets = _sets_for(context, recipes.values())
    return context.calculators.run(name, look, scene, recipes, expected, image, sets, only, tracks)


def file_camera(context: Context, source: SourceFile, path: str, recipe: Recipe = ()) -> FileCamera:
    """A camera of a file with a recipe for it."""
    return FileCamera(source.scene, path, recipe, _sets_for(context, [recipe]))


def camera_of_version(context: Context, version: Version) -> FileCamera:
    """A version's camera as its file holds it, with the version's recipe."""
    return file_camera(context, version.source_file, version.camera_path, recipe_of(version))


def _sets_for(context: Context, recipes: Iterable[Recipe]) -> dict[str, bytes]:
    find = set_finder(context)
    return {sha256: find(sha256) for sha256 in sets_of(recipes)}
