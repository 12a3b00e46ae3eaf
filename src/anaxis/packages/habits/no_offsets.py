"""The film back's offsets dropped."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound
from anaxis.packages.habits.no_lens_animation import STILL


class NoOffsets(Parameters):
    pass


def arrive(a: Arriving, p: NoOffsets, convention: Convention) -> Arriving:
    nothing = np.zeros(len(a.track))
    return a.with_lens(offset_x_mm=nothing, offset_y_mm=nothing)


def undo(s: Outbound, p: NoOffsets) -> Outbound:
    lens = s.track.lens
    if max(np.abs(lens.offset_x_mm).max(), np.abs(lens.offset_y_mm).max()) < STILL:
        return s
    return s.but(
        f"The package drops the offsets: type {lens.offset_x_mm[0]:.4f} mm right and {lens.offset_y_mm[0]:.4f} mm up there."
    )


HABIT = HabitKind(
    "no_offsets", "Drops offsets", NoOffsets, arrive, undo, lambda p: "drops the film back's offsets", 1.1
)
