"""Set geometry from another file."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.motion.set_objects import PlacedSet
from anaxis.core.parameters import Made, Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.operations.tree import UpAxis
from anaxis.core.scene.landmarks import joined
from anaxis.core.scene.nodes import corrected
from anaxis.core.scene.surroundings import landmarks_of, set_lines_m, set_triangles_m


class SetAdd(Parameters):
    """Set geometry and landmarks from another file."""

    sha256: Made = parameter("File")
    name: str | None = parameter("Name", default=None)
    up_axis: UpAxis | None = parameter("Up axis", default=None)
    metres_per_unit: Number | None = parameter("Metres per unit", "m", default=None)


def _set_add(work: Work, p: SetAdd) -> Work:
    found = corrected(work.sets(p.sha256), p.up_axis, p.metres_per_unit)
    marks = joined([work.landmarks, landmarks_of(found, work.done.frames[:1])], len(work.done))
    lines = np.concatenate([work.lines_m, set_lines_m(found, found.first_frame)])
    triangles = np.concatenate([work.triangles_m, set_triangles_m(found, found.first_frame)])
    more = PlacedSet.of(found, np.full(len(work.done), found.first_frame))
    return replace(work, landmarks=marks, lines_m=lines, triangles_m=triangles, around=(*work.around, more))


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
