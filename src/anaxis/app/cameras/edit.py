"""Making versions: a file's camera kept, taken again, edited, corrected; undo and redo."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from sqlalchemy import func, select, update

from anaxis.app.acting import use_case
from anaxis.app.cameras.scene_report import file_camera, looked_at
from anaxis.app.context import Context
from anaxis.app.webhooks.events import emit_new_head
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.motion.edits import lens_document
from anaxis.core.recipe.documents import recipe_document
from anaxis.core.recipe.effects import changes_picture, picture_after, picture_before
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.operations import kind_of
from anaxis.core.recipe.operations import lens as lens_operations
from anaxis.core.recipe.replay import completed, inserted
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.library.archive import scene_from_bytes
from anaxis.library.scene_report import CameraSummary, fitting_recipe
from anaxis.store.keep import find_or_make, keep_file
from anaxis.store.models import Camera, Shot, SourceFile, Version, VersionInput
from anaxis.store.noticed import expected_of
from anaxis.store.queries import picture_of_version, recipe_of, track_of

Keeping = Literal["recipe", "motion", "nothing"]
KEEPING_WORDS: dict[Keeping, str] = {
    "recipe": "the new camera with the recipe applied again",
    "motion": "only the new motion; lens, picture and recipe stay",
    "nothing": "the new camera unchanged; the recipe starts anew",
}


@use_case("take in")
def keep_camera(
    context: Context, shot: Shot, source: SourceFile, report: CameraSummary, name: str, picture: Picture, change: str = "",
    made_of: Sequence[VersionInput] = (),
) -> Version:  # fmt: skip
    """Keep one camera of a file; a camera of that name in the shot gets a new take. ``made_of`` are the versions of other
    cameras that it was made from.

    Raises BadInput for a camera that could not be flattened or has unusable numbers.
    """
    _refuse_unusable(report)
    camera: Camera = find_or_make(context, Camera, shot_id=shot.id, name=name)
    take = _highest(context, camera.id, Version.take) + 1
    context.refresh(camera, ["head_id"])
    follows = camera.head.number if camera.head_id is not None else None
    version = _made(camera, source, report, picture, _highest(context, camera.id, Version.number) + 1, made_of)
    version.take, version.edit, version.change = take, 0, change or f"taken in from {source.name}"
    version.actor = context.actor.name
    if follows is not None:  # what was worked on until now, whatever was undone before
        version.facts = {**version.facts, "follows": follows}
    context.add(version)
    context.flush()
    keep_file(context, source)
    _set_head(context, camera, version, missing_from_id=None)
    return version


@dataclass(frozen=True)
class Retake:
    """A newer file of a known camera, looked through and ready to be kept."""

    camera: Camera
    report: CameraSummary
    picture: Picture
    change: str


def planned_retake(
    context: Context, camera: Camera, source: SourceFile, scene: Scene, path: str, keeping: Keeping, picture: Picture,
    draft: Recipe = (),
) -> Retake:  # fmt: skip
    """A newer file of a known camera as its next take, worked out and not kept yet.

    ``draft`` is what was set for the file on intake. Operations that cannot be done on the new file are
    switched off, and a finding says so.
    """
    before = camera.head
    recipe: Recipe = draft
    trouble: list[Finding] = []
    if keeping != "nothing":
        wanted = _joined(draft, recipe_of(before))
        on_file = file_camera(context, source, path, wanted)
        recipe, trouble = context.calculators.run(source.name, fitting_recipe, on_file)
        picture = _kept_picture(before, scene_from_bytes(before.source_file.scene), scene, picture, keeping)
    if keeping == "motion":
        lens = lens_document(track_of(before)[0])
        recipe = inserted(recipe, lens_operations.KEEP_LENS.operation({"lens": lens, "of": f"version {before.label}"}))
    expected = expected_of(context.get_one(Shot, camera.shot_id))
    report = looked_at(context, source.name, source.scene, {path: recipe}, expected, picture.image, path)[0]
    report.findings.extend(trouble)
    return Retake(camera, report, picture, f"taken in from {source.name}: {KEEPING_WORDS[keeping]}")


def keep_retake(
    context: Context, source: SourceFile, made: Retake, made_of: Sequence[VersionInput] = (), change: str = ""
) -> Version:
    """Raises BadInput where the camera cannot be used at all."""
    shot = context.get_one(Shot, made.camera.shot_id)
    return keep_camera(
        context, shot, source, made.report, made.camera.name, made.picture, change or made.change, made_of
    )


def retake(
    context: Context, camera: Camera, source: SourceFile, scene: Scene, path: str, keeping: Keeping, picture: Picture,
    draft: Recipe = (),
) -> Version:  # fmt: skip
    """Plan a take and keep it; see :func:`planned_retake`. Raises BadInput where the camera cannot be used at all."""
    return keep_retake(context, source, planned_retake(context, camera, source, scene, path, keeping, picture, draft))


def _kept_picture(before: Version, source: Scene, scene: Scene, picture: Picture, keeping: Keeping) -> Picture:
    """The picture of a new take: what was set by hand for it, else for the one before, else what the file says.

    With the motion only, all of the picture is the earlier one's.
    """
    old = picture_of_version(before)
    new_image = not picture.image_guessed and picture.image != scene.image
    new_fit = not picture.fit_guessed and picture.fit != scene.source_fit
    keep_image = not new_image and (keeping == "motion" or (not old.image_guessed and old.image != source.image))
    keep_fit = not new_fit and (keeping == "motion" or (not old.fit_guessed and old.fit != source.source_fit))
    return Picture(
        old.image if keep_image else picture.image,
        old.fit if keep_fit else picture.fit,
        old.image_guessed if keep_image else picture.image_guessed,
        old.fit_guessed if keep_fit else picture.fit_guessed,
    )


def _joined(draft: Recipe, recipe: Recipe) -> Recipe:
    """The new file's own corrections take the place of the earlier file's."""
    codes = {o.code for o in draft if kind_of(o.code).for_file}
    return completed(tuple(o for o in recipe if o.code not in codes), draft)


@use_case("mark as missing")
def mark_missing(
    context: Context, before: Sequence[SourceFile], source: SourceFile, scene: Scene, kept: Sequence[Camera]
) -> list[Camera]:
    """Mark the cameras that came from the files ``before`` and are not in the newer one; nothing is deleted.

    A camera that the newer file holds, by its path or name, and that was only not taken again, is not missing.
    """
    earlier = {f.id for f in before if f.id != source.id}
    there = {n.path for n in scene.cameras} | {n.name for n in scene.cameras}
    taken = {c.id for c in kept}
    marked = []
    for shot_id in {c.shot_id for c in kept}:
        ours = select(Camera).where(Camera.shot_id == shot_id, ~Camera.made_here, Camera.id.not_in(taken))
        for camera in context.execute(ours).scalars():
            gone = not there & {camera.name, camera.head.camera_path, camera.head.camera_path.rsplit("/", 1)[-1]}
            if gone and camera.head.source_file_id in earlier:
                camera.missing_from_id = source.id
                marked.append(camera)
    context.flush()
    return marked


@use_case("edit")
def edit_version(
    context: Context, version: Version, recipe: Recipe, change: str, picture: Picture | None = None
) -> Version:
    """The recipe changed: the camera baked again as a new version, worked on from now on.

    ``picture`` is how the source makes its picture where that changed too.

    Raises BadInput, and keeps nothing, where the recipe cannot be done or leaves the camera unusable.
    """
    before = picture_before(picture_of_version(version), recipe_of(version))
    picture = picture_after(picture or before, recipe)
    report = _examined(context, version, recipe, picture)
    if report.facts is None:
        raise BadInput(report.findings[0].message)
    _refuse_unusable(report)
    others = [i.again() for i in version.made_of]
    return _next(context, version, _made(version.camera, version.source_file, report, picture, 0, others), change)


def add_operations(
    context: Context, version: Version, operations: Sequence[Operation], change: str, picture: Picture | None = None
) -> Version:
    """Operations put into the recipe, each behind the last of its stage; see :func:`edit_version`."""
    recipe = recipe_of(version)
    for operation in operations:
        recipe = inserted(recipe, operation)
    return edit_version(context, version, recipe, change[:300], picture)


def _examined(context: Context, version: Version, recipe: Recipe, picture: Picture) -> CameraSummary:
    image = None if picture.image_guessed else picture.image
    path, expected = version.camera_path, expected_of(version.camera.shot)
    source = version.source_file
    return looked_at(context, source.name, source.scene, {path: recipe}, expected, image, path)[0]


@use_case("correct the picture")
def correct_picture(context: Context, version: Version, image: Image, source_fit: str) -> Version:
    """The same camera with another picture, as a new version; nothing in it is a guess, and it is checked anew.

    Raises BadInput where the picture is a part of a plate, whose size the recipe says.
    """
    recipe = recipe_of(version)
    held = picture_of_version(version).image
    sizing = changes_picture(recipe)
    if sizing is not None and image != held:
        raise BadInput(
            f"The picture is a part of the plate, {held.width_px} x {held.height_px} px, which the recipe's operation "
            f"'{sizing.label}' sets: change the operation on Clean, or remove it first."
        )
    words = f"picture {image.width_px} x {image.height_px}, fit {source_fit}"
    report = _examined(context, version, recipe, Picture(image, source_fit, False, False))
    _refuse_unusable(report)
    same = ("camera_id", "facts", "track", "recipe")
    made = Version(
        **{k: getattr(version, k) for k in same}, findings=[f.as_dict() for f in report.findings],
        width_px=image.width_px, height_px=image.height_px, pixel_aspect=image.pixel_aspect, image_guessed=False,
        source_fit=source_fit, fit_guessed=False, inputs=[i.again() for i in version.inputs],
    )  # fmt: skip
    return _next(context, version, made, words)


@use_case("undo")
def step_back(context: Context, version: Version) -> Version:
    """Undo: the version this one was made from is worked on again. Raises BadInput at a take's beginning."""
    _require_seen(context, version)
    if version.parent_id is None:
        raise BadInput(f"Nothing to undo: version {version.label} is the camera as taken in.")
    parent = context.get_one(Version, version.parent_id)
    _set_head(context, version.camera, parent)
    return parent


@use_case("redo")
def step_on(context: Context, version: Version) -> Version:
    """Redo: the newest edit made from this version. Raises BadInput where there is none."""
    _require_seen(context, version)
    child = next_of(context, version)
    if child is None:
        raise BadInput(f"Nothing to redo after version {version.label}.")
    _set_head(context, version.camera, child)
    return child


def next_of(context: Context, version: Version) -> Version | None:
    """The newest edit made from a version."""
    query = select(Version).where(Version.parent_id == version.id).order_by(Version.number.desc()).limit(1)
    return context.execute(query).scalar_one_or_none()


@use_case("copy")
def copy_camera(context: Context, version: Version, name: str) -> Version:
    """The version as a camera of its own in the same shot, under a legal name that is free."""
    context.execute(select(Shot.id).where(Shot.id == version.camera.shot_id).with_for_update())
    taken = set(context.execute(select(Camera.name).where(Camera.shot_id == version.camera.shot_id)).scalars())
    camera = Camera(shot_id=version.camera.shot_id, name=legal_name(name or version.camera.name, taken), made_here=True)
    context.add(camera)
    context.flush()
    same = ("facts", "findings", "track", "recipe", "width_px", "height_px",
            "pixel_aspect", "image_guessed", "source_fit", "fit_guessed")  # fmt: skip
    made = Version(
        **{k: getattr(version, k) for k in same},
        camera_id=camera.id,
        number=1,
        take=1,
        edit=0,
        change=f"copied from {version.camera.name} {version.label}",
        actor=context.actor.name,
        inputs=[i.again() for i in version.inputs],
    )
    context.add(made)
    context.flush()
    _set_head(context, camera, made)
    return made


def _refuse_unusable(report: CameraSummary) -> None:
    if report.track is None or not report.usable:
        worst = next(f for f in report.findings if f.severity == "error")
        raise BadInput(f"{report.name} cannot be saved: {worst.message} {worst.remedy}")


def _made(
    camera: Camera,
    source: SourceFile,
    report: CameraSummary,
    picture: Picture,
    number: int,
    made_of: Sequence[VersionInput],
) -> Version:
    return Version(
        camera_id=camera.id,
        number=number,
        inputs=[VersionInput(source_file=source, camera_path=report.path), *made_of],
        width_px=picture.image.width_px,
        height_px=picture.image.height_px,
        pixel_aspect=picture.image.pixel_aspect,
        image_guessed=picture.image_guessed,
        source_fit=picture.fit,
        fit_guessed=picture.fit_guessed,
        facts=report.facts,
        findings=[f.as_dict() for f in report.findings],
        recipe=recipe_document(report.recipe),
        track=report.track,
    )


def _next(context: Context, version: Version, made: Version, change: str) -> Version:
    """Put an edit behind the version it was made from. Raises BadInput where somebody else was quicker."""
    _require_seen(context, version)
    made.number = _highest(context, version.camera_id, Version.number) + 1
    edits = select(func.max(Version.edit)).where(Version.camera_id == version.camera_id, Version.take == version.take)
    made.take, made.edit = version.take, (context.execute(edits).scalar() or 0) + 1
    made.parent_id, made.change, made.actor = version.id, change, context.actor.name
    context.add(made)
    context.flush()
    _set_head(context, version.camera, made)
    return made


def _require_seen(context: Context, version: Version) -> None:
    """Refuse a change made from a page that does not show what is worked on by now.

    The camera's row is locked, so that of two changes at once the second is refused.
    """
    if not context.checks_base:  # nobody looks at a page: the command line, the demo
        return
    seen = version.number if context.base_version is None else context.base_version
    context.execute(select(Camera.id).where(Camera.id == version.camera_id).with_for_update())
    query = select(Version).join(Camera, Camera.head_id == Version.id).where(Camera.id == version.camera_id)
    head = context.execute(query).scalar_one_or_none()
    if head is not None and head.number != seen:
        raise BadInput(
            f"Version {head.label} was saved from another page meanwhile ({head.change or 'taken in'}). Your change was not saved: check the current version, then repeat your change."
            "",
            "conflict",
        )


def _set_head(context: Context, camera: Camera, version: Version, **also: Any) -> None:
    emit_new_head(context, context.get(Version, camera.head_id) if camera.head_id is not None else None, version)
    context.execute(update(Camera).where(Camera.id == camera.id).values(head_id=version.id, **also))
    context.expire(camera)


def _highest(context: Context, camera_id: int, column: Any) -> int:
    """The highest number in use; the row lock keeps them without gaps or clashes."""
    context.execute(select(Camera.id).where(Camera.id == camera_id).with_for_update())
    return context.execute(select(func.max(column)).where(Version.camera_id == camera_id)).scalar() or 0
