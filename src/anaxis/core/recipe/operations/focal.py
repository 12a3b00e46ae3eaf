"""One focal length, over a frame range or all of it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.spans import FIRST, LAST, ends, only_over


class Focal(Parameters):
    focal_mm: Number = asked("Focal length", "mm")
    first: Number | None = FIRST
    last: Number | None = LAST


def apply(work: Work, p: Focal) -> Work:
    if p.focal_mm <= 0:
        raise BadInput(f"A focal length of {p.focal_mm:g} mm cannot be: it must be above zero.")
    track = work.done
    first, last = ends(p.first, p.last)
    inside = (track.frames >= first) & (track.frames <= last)
    if not inside.any():
        track.between(first, last)  # raises the sentence for it
    focal = np.where(inside, p.focal_mm, track.lens.focal_mm)
    return work.with_track(replace(track, lens=replace(track.lens, focal_mm=focal)))


KIND = Kind(
    "focal", "Set the focal length", "track", Focal, apply, lambda p: f"{p.focal_mm:g} mm{only_over(p.first, p.last)}"
)
