"""Set geometry: from another file, and which of its objects delivered."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.motion.set_objects import ObjectChoice, PlacedSet
from anaxis.core.parameters import Made, Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.operations.tree import UpAxis
from anaxis.core.scene.landmarks import joined
from anaxis.core.scene.nodes import Scene, corrected
from anaxis.core.scene.surroundings import landmarks_of, set_lines_m, set_triangles_m
from anaxis.core.time.rates import format_frame, rate_label


class SetAdd(Parameters):
    """Set geometry and landmarks from another file."""

    sha256: Made = parameter("File")
    name: str | None = parameter("Name", default=None)
    up_axis: UpAxis | None = parameter("Up axis", default=None)
    metres_per_unit: Number | None = parameter("Metres per unit", "m", default=None)


def _set_add(work: Work, p: SetAdd) -> Work:
    found = corrected(work.sets(p.sha256), p.up_axis, p.metres_per_unit)
    more = _placed_set(found, work, p.name or "set")
    moves = more.frames[0] != more.frames[-1]
    marks = joined([work.landmarks, landmarks_of(found, more.frames if moves else more.frames[:1])], len(work.done))
    lines = np.concatenate([work.lines_m, set_lines_m(found, found.first_frame)])
    triangles = np.concatenate([work.triangles_m, set_triangles_m(found, found.first_frame)])
    return replace(work, landmarks=marks, lines_m=lines, triangles_m=triangles, around=(*work.around, more))


def _placed_set(found: Scene, work: Work, name: str) -> PlacedSet:
    """A set round a camera: where it moves, on its frames of the camera's numbers, if its rate and frames allow that."""
    track = work.done
    still = PlacedSet.of(found, np.full(len(track), found.first_frame), name)
    keys = [k for n in found.nodes for k in (n.keys, n.mesh.frames if n.mesh is not None else n.keys) if len(k) > 1]
    if not keys:
        return still
    first, last = min(float(k.min()) for k in keys), max(float(k.max()) for k in keys)
    if found.rate == track.rate and first <= track.frames[-1] and track.frames[0] <= last:
        return PlacedSet.of(found, track.frames, name)
    return still._replace(
        note=f"{name} moves on frames {format_frame(first)} to {format_frame(last)} at {rate_label(found.rate)} frames a second, and the "
        f"camera runs from {format_frame(track.frames[0])} to {format_frame(track.frames[-1])} at {rate_label(track.rate)}: the set is still, as on its first frame. Export it with the frames and rate of the camera."
        ""
    )


SET_ADD = Kind(
    "set_add",
    "Add set geometry",
    "track",
    SetAdd,
    _set_add,
    lambda p: p.name or "",
    station="place",
    by_hand=False,
    moves_camera=False,
    set_of=lambda p: p.sha256,
)


class SetObjects(Parameters):
    """Which objects of the set go along with the camera, under which name, in which group, hidden or not for render."""

    objects: list[ObjectChoice] = parameter("Objects")


def _set_objects(work: Work, p: SetObjects) -> Work:
    paths = [c.path for c in p.objects]
    twice = [path for path, count in Counter(paths).items() if count > 1]
    if twice:
        raise BadInput(f"'{twice[0]}' is listed twice: list each object once.")
    return replace(work, choices=tuple(p.objects))


def _set_objects_words(p: SetObjects) -> str:
    left = [c.path.rsplit("/", 1)[-1] for c in p.objects if not c.along]
    said = [f"without {', '.join(left[:4])}{' and more' if len(left) > 4 else ''}"] if left else []
    changed = sum(c.along and (c.name, c.group, c.hidden, c.guide) != (None, None, False, False) for c in p.objects)
    return ", ".join([*said, *([f"{changed} changed"] if changed else [])]) or "all objects unchanged"


SET_OBJECTS = Kind(
    "set_objects",
    "Choose objects of the set",
    "track",
    SetObjects,
    _set_objects,
    _set_objects_words,
    station="place",
    by_hand=False,
    once=True,
    moves_camera=False,
)
