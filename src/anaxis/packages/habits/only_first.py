"""Only the first frame taken."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound
from anaxis.packages.habits.no_lens_animation import STILL, lens_moves


class OnlyFirst(Parameters):
    pass


def arrive(a: Arriving, p: OnlyFirst, convention: Convention) -> Arriving:
    return a.kept(np.arange(len(a.track)) == 0)


def undo(s: Outbound, p: OnlyFirst) -> Outbound:
    moves = max(np.ptp(s.track.position_m, axis=0).max(), np.ptp(s.track.rotation, axis=0).max()) > STILL
    if not moves and not lens_moves(s):
        return s
    return s.but(
        "The package takes only the first frame: key the other frames there by hand, from the numbers of 'anaxis values'."
    )


HABIT = HabitKind(
    "only_first", "Takes only the first frame", OnlyFirst, arrive, undo, lambda p: "takes only the first frame", 1.2
)
