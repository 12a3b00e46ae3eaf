"""Camera, landmarks and set moved together."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class Shift(Parameters):
    x_m: Number = asked("X", "m")
    y_m: Number = asked("Y", "m")
    z_m: Number = asked("Z", "m")


def apply(work: Work, p: Shift) -> Work:
    offset = np.array([p.x_m, p.y_m, p.z_m])
    marks = replace(work.landmarks, position_m=work.landmarks.position_m + offset)
    track = replace(work.done, position_m=work.done.position_m + offset)
    lines, triangles = work.lines_m + offset, work.triangles_m + offset
    return replace(work, track=track, landmarks=marks, lines_m=lines, triangles_m=triangles)


KIND = Kind(
    "shift",
    "Offset camera, landmarks and set",
    "track",
    Shift,
    apply,
    lambda p: f"{p.x_m:g}, {p.y_m:g}, {p.z_m:g} m (right, up, back)",
    station="place",
)
