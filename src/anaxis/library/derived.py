"""Cameras made from the cameras of files: a cut's joined into one, objects 360-degree framing, a shot camera held at a frame."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.checks.examine import take_camera
from anaxis.core.derive import framed, held, joined
from anaxis.core.derive.derived import Derived, Input
from anaxis.core.derive.framed import Frame
from anaxis.core.derive.held import Hold
from anaxis.core.derive.joined import Join
from anaxis.core.derive.owed import check_range
from anaxis.core.derive.sphere import require_equirectangular
from anaxis.core.derive.sphere_maps import Sphere
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.scene.hull import pieces_m
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.scene.surroundings import set_triangles_m
from anaxis.core.time.rates import rate_text
from anaxis.diagnosis.covered import coverage, proposals
from anaxis.formats.editorial.cut_list import CutList, shots_in
from anaxis.formats.editorial.pieces import Laid, pieces_of
from anaxis.formats.editorial.write import edl_refused, render_range


def input_of(
    role: str, scene: Scene, camera: str | None, recipe: Recipe, picture: Picture, objects: tuple[str, ...] = ()
) -> tuple[Input, str]:
    """A file's camera as an input in a role, with the pieces of its set that ``objects`` name, and its path in the file. Raises
    BadInput."""
    work = take_camera(scene, camera, recipe=recipe)
    return input_of_work(role, scene, work, picture, objects), work.path


def input_of_work(role: str, scene: Scene, work: Work, picture: Picture, objects: tuple[str, ...] = ()) -> Input:
    """The same of a camera whose recipe is done already."""
    return Input(
        role, work.done, picture, work.landmarks, work.lines_m, work.triangles_m, pieces_m(work.scene, objects, work.done.frames),
        scene.convention.up_axis, scene.convention.metres_per_unit,
    )  # fmt: skip


def laid_over(edit: CutList, names: Iterable[str], cut_name: str) -> Laid:
    """The clips of an edit as pieces, each in the role of the name that it is called by. Raises BadInput for a name that no clip
    has; ``cut_name`` is the edit's file."""
    names = list(names)
    clips = shots_in(edit, names)
    stranger = next((n for n in names if n not in clips), None)
    if stranger is not None:
        raise BadInput(
            f"{cut_name} has no clip '{stranger}': it has {', '.join(dict.fromkeys(c.name for c in edit.clips[:12]))}."
        )
    role_of = {id(c): name for name, found in clips.items() for c in found}
    return pieces_of(edit, lambda c: role_of.get(id(c), ""))


class JoinedCut(NamedTuple):
    """A cut's cameras joined, by which settings, the range to be rendered, and what is to be said of it."""

    made: Derived
    settings: Join
    owed: dict[str, Any]
    findings: list[Finding]


def timecode_of_edit(edit: CutList) -> str:
    """Which timecode an EDL is written in of a cut that an edit says: the edit's own."""
    return "drop" if edit.drops else "non-drop"


def join(
    edit: CutList, laid: Laid, inputs: Mapping[str, Input], wanted: Mapping[str, Any], typed_range: tuple[float, float] | None,
    extra: tuple[int, int] = (0, 0),
) -> JoinedCut:  # fmt: skip
    """The cameras of a cut joined; ``wanted`` are settings of a join, its picture that of the first input where it names none,
    ``typed_range`` a range typed elsewhere, which is held against the one owed, and ``extra`` so many frames more at each end.
    Raises BadInput."""
    start = next(iter(inputs.values())).picture
    image = start.image
    usual = {
        "width_px": image.width_px, "height_px": image.height_px, "pixel_aspect": image.pixel_aspect, "fit": start.fit, "name": "joined",
    }  # fmt: skip
    pieces = [p.model_dump() for p in laid.pieces]
    given = {k: v for k, v in wanted.items() if v is not None}
    settings = joined.KIND.read(
        {
            **usual,
            "pieces": pieces,
            "rate": rate_text(edit.rate),
            "edit": edit.name,
            "timecode": timecode_of_edit(edit),
            **given,
        }
    )
    settings = joined.extended(settings, *extra)
    made, owed = joined.make(inputs, settings), render_range(settings)
    findings = [Finding("edit", "note", n, "Check it in the edit.") for n in laid.notes]
    refused = edl_refused(settings)
    if refused:
        findings.append(Finding("edit", "note", refused, "Use the OpenTimelineIO document."))
    if laid.without:
        without = ", ".join(dict.fromkeys(laid.without))
        findings.append(
            Finding("join_without", "warning", f"Clips without a camera are gaps: {without}.", "Name their cameras with --camera.")
        )  # fmt: skip
    if typed_range is not None:
        found = check_range(owed["first_frame"], owed["last_frame"], int(typed_range[0]), int(typed_range[1]))
        remedy = "Nothing." if found.equal else "Type the expected range."
        findings.append(
            Finding(
                "render_range", "note" if found.equal else "warning", found.said, remedy, numbers={"kind": found.kind}
            )
        )
    return JoinedCut(made, settings, owed, findings)


class Framed(NamedTuple):
    """A camera that frames objects in the sphere of its plate, by which settings, and both on every frame."""

    made: Derived
    settings: Frame
    sphere: Sphere


def frame(source: Input, plate: Image, wanted: Mapping[str, Any]) -> Framed:
    """Objects framed with an ordinary camera that stands in a 360-degree plate's; ``wanted`` are settings of a framing camera.
    Raises BadInput."""
    require_equirectangular(plate)
    settings = framed.KIND.read({"plate_width_px": plate.width_px, "name": "framing", **wanted})
    made = framed.make({framed.PLATE_CAMERA: source}, settings)
    axes = framed.plate_axes(source.track, settings.plate == "stabilised")
    return Framed(made, settings, Sphere(made.track, made.image, made.fit, plate, axes))


def with_set_of(source: Input, other: Scene) -> Input:
    """An input with the set of another file beside its own, as it is on that file's first frame."""
    more = set_triangles_m(other, other.first_frame)
    return replace(source, triangles_m=np.concatenate([source.triangles_m, more]))


class Held(NamedTuple):
    """A projection camera, and by which settings."""

    made: Derived
    settings: Hold


def hold(source: Input, wanted: Mapping[str, Any]) -> Held:
    """A shot camera held at a frame; ``wanted`` are settings of a held camera. Raises BadInput."""
    settings = held.KIND.read(dict(wanted))
    return Held(held.make({held.SHOT: source}, settings), settings)


def covered_by(source: Input, projections: Sequence[Derived]) -> dict[str, Any]:
    """How much of what a shot camera sees of its set projection cameras cover, and on which frame they cover least."""
    cameras = [(one.track, one.image, one.fit) for one in projections]
    return coverage(source.track, source.picture.image, source.picture.fit, source.triangles_m, cameras)[0]


def best_frames(source: Input) -> list[dict[str, Any]]:
    """The frames to hold a shot camera at that would cover most of its shot."""
    return proposals(source.track, source.picture.image, source.picture.fit, source.triangles_m)
