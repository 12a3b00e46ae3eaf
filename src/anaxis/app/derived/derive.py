"""Cameras made from cameras: made, held against their inputs, updated."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select, text

from anaxis.app.acting import use_case
from anaxis.app.cameras.edit import keep_camera, keep_retake, planned_retake
from anaxis.app.cameras.names import shot_for
from anaxis.app.cameras.scene_report import camera_of_version, looked_at
from anaxis.app.context import Context
from anaxis.core.checks import Expected
from anaxis.core.derive import derived_kind
from anaxis.core.derive.derived import Input
from anaxis.core.derive.framed import Frame
from anaxis.core.derive.held import Hold
from anaxis.core.derive.joined import Join
from anaxis.core.errors import BadInput
from anaxis.core.proof.compare import Comparison, compare
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.picture import Picture, picture_of
from anaxis.library.archive import scene_from_bytes
from anaxis.library.around import Around, around
from anaxis.library.made import derived
from anaxis.library.scene_report import camera_after, fitting_recipe
from anaxis.store.keep import keep_derivation, stage_file
from anaxis.store.models import Camera, Derivation, Shot, Show, SourceFile, Version, VersionInput
from anaxis.store.noticed import expected_of
from anaxis.store.queries import find_shot, picture_of_version, track_of
from anaxis.store.rows import found as row_of


class Derive(BaseModel):
    """A camera to be made: its ``kind`` and ``settings``, and the version of a camera for each role."""

    kind: str
    show: str
    shot: str
    name: str
    settings: dict[str, Any] = {}
    inputs: dict[str, int]


@dataclass(frozen=True)
class OutdatedInput:
    """An input that has a newer version: the one made from, and the one there is now; ``itself`` says that the input is a
    derived camera whose own inputs have newer ones."""

    role: str
    used: Version
    newest: Version
    itself: bool = False


@use_case("derive")
def derive(context: Context, asked: Derive) -> Version:
    """Make a camera from others and keep it. Raises BadInput, and then nothing is kept."""
    inputs = {role: row_of(context, Version, number, "version") for role, number in asked.inputs.items()}
    names = asked.show.strip(), asked.shot.strip()
    if not all(1 <= len(n) <= 120 for n in names) or not 1 <= len(asked.name.strip()) <= 120:
        raise BadInput("The show, the shot and the camera each need a name of 1 to 120 characters.")
    source, picture = _made(context, asked.kind, inputs, asked.settings, asked.name)
    found = find_shot(context, *names)
    expected = expected_of(found) if found else Expected()
    report = looked_at(context, source.name, source.scene, {}, expected)[0]
    shot = shot_for(context, *names)
    context.execute(select(Shot.id).where(Shot.id == shot.id).with_for_update())
    taken = set(context.execute(select(Camera.name).where(Camera.shot_id == shot.id)).scalars())
    name = legal_name(asked.name, taken)
    change = derived_kind(asked.kind).label
    version = keep_camera(context, shot, source, report, name, picture, change, _made_of(inputs))
    context.get_one(Camera, version.camera_id).made_here = True
    context.flush()
    return version


@use_case("update")
def bring_up_to_date(context: Context, version: Version) -> Version:
    """A derived camera made anew from the newest versions of its inputs, its recipe done again, as its next take."""
    derivation = _derivation(version)
    newest = {i.role: used_version(i).camera.head for i in version.made_of}
    return _again(context, version, newest, derivation.settings, "updated")


@use_case("derive again")
def derive_anew(
    context: Context, version: Version, settings: Mapping[str, Any], inputs: Mapping[str, int] | None = None
) -> Version:
    """A derived camera with other settings, or of other inputs, as its next take. Raises BadInput."""
    chosen = {i.role: used_version(i) for i in version.made_of}
    if inputs is not None:
        chosen = {role: row_of(context, Version, number, "version") for role, number in inputs.items()}
    return _again(context, version, chosen, dict(settings), "changed settings")


def _again(
    context: Context, version: Version, inputs: Mapping[str, Version], settings: Mapping[str, Any], why: str
) -> Version:
    _refuse_circle(context, version.camera, inputs.values())
    kind = _derivation(version).kind
    source, picture = _made(context, kind, inputs, settings, version.camera.name)
    scene = scene_from_bytes(source.scene)
    planned = planned_retake(context, version.camera, source, scene, scene.cameras[0].path, "recipe", picture)
    return keep_retake(context, source, planned, _made_of(inputs), f"{derived_kind(kind).label}, {why}")


def _made(
    context: Context, kind: str, inputs: Mapping[str, Version], settings: Mapping[str, Any], name: str
) -> tuple[SourceFile, Picture]:
    """The camera as a file of our own that holds it, and its picture."""
    checked = derived_kind(kind).read({**settings, "name": name}).model_dump(mode="json")
    scene, data = _bytes_of(context, kind, inputs, checked)
    source = stage_file(context, f"{name}.{kind}.track.json", data, scene)
    keep_derivation(context, source, kind, checked)
    picture = picture_of(scene_from_bytes(scene), None, None)
    if kind == "framed":  # its picture is what was asked for
        return source, picture
    # What was guessed of an input's picture is no more certain here.
    fits, images = (any(getattr(v, k) for v in inputs.values()) for k in ("fit_guessed", "image_guessed"))
    return source, replace(picture, fit_guessed=fits, image_guessed=images and kind == "held")


def _bytes_of(
    context: Context, kind: str, inputs: Mapping[str, Version], settings: Mapping[str, Any]
) -> tuple[bytes, bytes]:
    given = {role: input_of(context, v, kind, settings) for role, v in inputs.items()}
    file = f"{settings['name']}.{kind}.track.json"
    camera = context.make(file, derived, kind, given, dict(settings), file)
    return camera.scene, camera.document


def input_of(context: Context, version: Version, kind: str, settings: Mapping[str, Any]) -> Input:
    """A version as a camera that another is made from, with what the kind needs to know of what lies about it."""
    track, marks, lines_m = track_of(version)
    found = Input(
        version.called, replace(track, name=version.camera.name), picture_of_version(version), marks, lines_m,
        up_axis=str(version.facts["up_axis"]), metres_per_unit=float(version.facts["metres_per_unit"]),
    )  # fmt: skip
    if kind == "joined":
        return found
    about = around_version(context, version, tuple(settings.get("objects", ())))
    return replace(found, triangles_m=about.triangles_m, objects=about.objects)


def around_version(context: Context, version: Version, objects: tuple[str, ...] = ()) -> Around:
    """What lies about a version's camera."""
    return context.calculators.run(version.source_file.name, around, camera_of_version(context, version), objects)


def _made_of(inputs: Mapping[str, Version]) -> list[VersionInput]:
    return [VersionInput(place=i, role=role, input_id=v.id) for i, (role, v) in enumerate(inputs.items(), 1)]


def _derivation(version: Version) -> Derivation:
    if version.derivation is None:
        raise BadInput(f"{version.camera.name} is not derived: it was taken in from {version.source_file.name}.")
    return version.derivation


def used_version(of: VersionInput) -> Version:
    """The version of another camera that an input is."""
    assert of.input is not None
    return of.input


def settings_of(version: Version) -> Join | Frame | Hold | None:
    """The settings of a derived camera; None for one that was taken in."""
    if version.derivation is None:
        return None
    found: Join | Frame | Hold = derived_kind(version.derivation.kind).read(version.derivation.settings)
    return found


# OutdatedInput its inputs


def outdated_inputs(context: Context, version: Version) -> list[OutdatedInput]:
    """The inputs of a derived camera that have newer versions, or are outdated themselves."""
    out = []
    for one in version.made_of:
        used = used_version(one)
        newest = used.camera.head
        itself = newest.derivation is not None and bool(outdated_inputs(context, newest))
        if newest.id != used.id or itself:
            out.append(OutdatedInput(one.role, used, newest, itself))
    return out


_LATE = text(
    "WITH RECURSIVE made_from(head, input) AS (SELECT i.version_id, i.input_id FROM shots s JOIN cameras c ON c.shot_id = s.id "
    "JOIN version_inputs i ON i.version_id = c.head_id WHERE s.show_id = :show AND i.input_id IS NOT NULL UNION "
    "SELECT m.head, i.input_id FROM made_from m JOIN version_inputs i ON i.version_id = m.input WHERE i.input_id IS NOT NULL) "
    "SELECT DISTINCT m.head FROM made_from m JOIN versions v ON v.id = m.input JOIN cameras c ON c.id = v.camera_id WHERE c.head_id <> v.id"
)


def outdated_versions(context: Context, show: Show) -> set[int]:
    """The current versions of a show's cameras, by number, that are outdated: an input has a newer version, or is outdated itself."""
    return set(context.execute(_LATE, {"show": show.id}).scalars())


def update_would_change(context: Context, version: Version) -> Comparison:
    """What bringing a derived camera up to date would change, in pixels on the frames both have; nothing is kept.

    Raises BadInput where it cannot be made of the newest inputs.
    """
    derivation = _derivation(version)
    newest = {i.role: used_version(i).camera.head for i in version.made_of}
    scene, _ = _bytes_of(context, derivation.kind, newest, derivation.settings)
    read = scene_from_bytes(scene)
    name, runner = version.source_file.name, context.calculators
    camera = replace(camera_of_version(context, version), scene=scene, path=read.cameras[0].path)
    fits, _ = runner.run(name, fitting_recipe, camera)
    track, _, _ = runner.run(name, camera_after, replace(camera, recipe=fits))
    now, marks, _ = track_of(version)
    before, after = picture_of_version(version), picture_of(read, None, None)
    return compare(now, track, (before.image, after.image), (before.fit, after.fit), marks)


def hanging_on(context: Context, camera: Camera) -> list[Camera]:
    """The cameras that are made from a camera as they are worked on now, those that are off the lists left out."""
    query = (
        select(Camera)
        .join(VersionInput, VersionInput.version_id == Camera.head_id)
        .join(Version, Version.id == VersionInput.input_id)
        .where(Version.camera_id == camera.id, Camera.removed_at.is_(None))
        .distinct()
        .order_by(Camera.id)
    )
    return list(context.execute(query).scalars())


_MADE_FROM = text(
    "WITH RECURSIVE up(id) AS (SELECT unnest(cast(:inputs AS int[])) UNION "
    "SELECT i.input_id FROM version_inputs i JOIN up ON i.version_id = up.id WHERE i.input_id IS NOT NULL) "
    "SELECT DISTINCT v.camera_id FROM versions v JOIN up ON v.id = up.id"
)


def _refuse_circle(context: Context, camera: Camera, inputs: Sequence[Version] | Any) -> None:
    """Raises BadInput where a camera would be made from itself, however far round."""
    wanted = [v.id for v in inputs]
    if camera.id in set(context.execute(_MADE_FROM, {"inputs": wanted}).scalars()):
        raise BadInput(
            f"{camera.name} would be derived from itself: one of its inputs is derived from it. Choose another version of that input."
        )
