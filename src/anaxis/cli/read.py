"""How the command line reads files: each in a process of its own, as its options say."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from threading import Thread
from typing import TYPE_CHECKING, Any

from anaxis.core.errors import BadInput
from anaxis.formats import check_size
from anaxis.sandbox.guard import ParserPool, limits_from_environment

if TYPE_CHECKING:  # loaded when first used: the reading process starts before all else
    from anaxis.core.camera.lens import Image
    from anaxis.core.recipe.model import Recipe
    from anaxis.core.scene.nodes import Scene
    from anaxis.core.scene.picture import Picture
    from anaxis.library.changes import Changes
    from anaxis.library.returned import Meant


def guesses_of(picture: Picture) -> list[str]:
    """What of a picture is a guess, and the option that sets it."""
    said = []
    if picture.image_guessed:
        size = f"{picture.image.width_px}x{picture.image.height_px}"
        said.append(f"The resolution {size} is a guess; set it with --resolution.")
    if picture.fit_guessed:
        said.append(f"The source's fit is a guess ({picture.fit}); set it with --source-fit.")
    return said


def start_reader(file: Path) -> ParserPool:
    """Started first thing, so that the reading process loads its library while this one does."""
    return ParserPool(limits_from_environment(), only_for=file.name)


def _load_rotations() -> None:
    """Load SciPy's rotations while the other process reads the file: that takes a third of a second."""
    import scipy.spatial.transform  # noqa: F401


def read_stated(
    reader: ParserPool,
    file: Path,
    up_axis: str | None,
    metres_per_unit: float | None,
    rate: str | None,
    columns: Path | None,
    allow_files: Path | None = None,
) -> Scene:
    """A file's scene with what a person states of it; it may refer to layers in the folder ``allow_files``. Raises BadInput; ends the
    reader."""
    from anaxis.core.scene.nodes import corrected
    from anaxis.core.time.rates import parse_rate

    try:
        if not file.is_file():
            raise BadInput(f"There is no file {file}: check the name.")
        check_size(file.name, file.stat().st_size, reader.limits.max_bytes)
        layout = layout_of(columns)
        # Not a daemon thread: a command that ends at once must wait until the import is complete.
        Thread(target=_load_rotations).start()
        scene = reader.read(file.resolve(), layout, within=allow_files)
        return corrected(scene, up_axis, metres_per_unit, parse_rate(rate) if rate else None)
    finally:
        reader.close()


def read_scene(file: Path) -> Scene:
    """A file's scene as it stands. Raises BadInput."""
    return read_stated(start_reader(file), file, None, None, None, None)


def read_meant(file: Path, camera: str | None, resolution: Image | None, source_fit: str | None) -> Meant:
    """The camera meant, with its picture. Raises BadInput."""
    from anaxis.core.scene.picture import picture_of
    from anaxis.library.returned import Meant

    scene = read_scene(file)
    return Meant.of(scene, camera, picture_of(scene, resolution, source_fit))


@dataclass(frozen=True, eq=False)
class ReadSource:
    """A file with its picture, the recipe, and the options that change a camera."""

    scene: Scene
    picture: Picture
    recipe: Recipe
    changes: Changes

    def steps(self, camera: str | None) -> Recipe:
        """What is done to one camera: the recipe, then what the options ask for. Raises BadInput."""
        from anaxis.cli.changes import with_changes

        return with_changes(self.recipe, self.changes, self.scene, camera, self.picture)


def read_source(
    reader: ParserPool, file: Path, resolution: Image | None, source_fit: str | None, stated: dict[str, Any]
) -> ReadSource:
    """The file read as its options say. Raises BadInput."""
    from anaxis.cli.changes import split
    from anaxis.core.recipe.effects import picture_after
    from anaxis.core.scene.picture import picture_of
    from anaxis.library.changes import with_pixel_aspect

    recipe, pixel_aspect = stated.pop("recipe"), stated.pop("pixel_aspect")
    changes, stated = split(stated)
    scene = read_stated(reader, file, **stated)
    picture = with_pixel_aspect(picture_of(scene, resolution, source_fit), pixel_aspect)
    steps = recipe_of(recipe)
    return ReadSource(scene, picture_after(picture, steps), steps, changes)


def layout_of(columns: Path | None) -> dict[str, Any] | None:
    """The column layout in a JSON file. Raises BadInput."""
    layout = json_file(columns, "column layout") if columns else None
    if layout is not None and not isinstance(layout, dict):
        raise BadInput(f"{columns} is not a column layout: it must be a JSON object with 'columns'.")
    return layout


def json_file(path: Path, what: str) -> Any:
    """A JSON file's document; raises BadInput that names it as ``what``."""
    try:
        return json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise BadInput(f"The {what} {path} cannot be read ({error.strerror}): check the name.") from error
    except (ValueError, RecursionError) as error:
        raise BadInput(f"The {what} {path} is not readable JSON: save it again.") from error


def recipe_of(path: Path | None) -> Recipe:
    if path is None:
        return ()
    from anaxis.core.recipe.documents import recipe_from_document

    return recipe_from_document(json_file(path, "recipe"))


def recipes_of(path: Path | None, scene: Scene, camera: str | None) -> dict[str, Recipe]:
    """The recipe for the camera asked for, or for every camera of the file."""
    if path is None:
        return {}
    recipe = recipe_of(path)
    chosen = [scene.camera(camera)] if camera else scene.cameras
    return {n.path: recipe for n in chosen}
