"""The horizon levelled."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters
from anaxis.core.scene.tree import level_axes, roll_deg
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class NoRoll(Parameters):
    pass


def arrive(a: Arriving, p: NoRoll, convention: Convention) -> Arriving:
    track = a.track
    return a.moved(track.position_m, level_axes(track.rotation[:, :, 2], track.rotation[:, :, 0]))


def undo(s: Outbound, p: NoRoll) -> Outbound:
    rolled = float(np.abs(roll_deg(s.track.rotation)).max())
    if rolled < 1e-6:
        return s
    return s.but(
        f"The package levels the horizon, and the camera rolls by up to {rolled:.2f} degrees: key the roll there."
    )


HABIT = HabitKind("no_roll", "Drops the roll", NoRoll, arrive, undo, lambda p: "levels the horizon", 1.3)
