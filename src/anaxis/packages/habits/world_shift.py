"""The whole world shifted."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class WorldShift(Parameters):
    x: Number = asked("X", "its units", default=0.0)
    y: Number = asked("Y", "its units", default=0.0)
    z: Number = asked("Z", "its units", default=0.0)


def arrive(a: Arriving, p: WorldShift, convention: Convention) -> Arriving:
    return a.moved(a.track.position_m + convention.position_to_canonical(np.array([p.x, p.y, p.z])), a.track.rotation)


def undo(s: Outbound, p: WorldShift) -> Outbound:
    back = s.convention.position_to_canonical(np.array([p.x, p.y, p.z]))
    return replace(s.moved(s.track.position_m - back, s.track.rotation), marks_m=s.marks_m - back)


HABIT = HabitKind(
    "world_shift",
    "Shifts the world",
    WorldShift,
    arrive,
    undo,
    lambda p: f"shifts the world by {number(p.x)}, {number(p.y)}, {number(p.z)} of its units",
    2.0,
)
