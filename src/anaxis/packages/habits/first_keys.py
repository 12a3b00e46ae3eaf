"""Only the keys of the first frames taken."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FirstKeys(Parameters):
    count: Positive = asked("How many", "frames", default=100.0)


def arrive(a: Arriving, p: FirstKeys, convention: Convention) -> Arriving:
    return a.kept(np.arange(len(a.track)) < max(1, int(p.count)))


def undo(s: Outbound, p: FirstKeys) -> Outbound:
    count = int(p.count)
    if len(s.track) <= count:
        return s
    return s.but(
        f"The package takes only the keys of the first {count} frames: hand the shot over in parts of at most {count} frames."
    )


HABIT = HabitKind(
    "first_keys",
    "Takes only the first keys",
    FirstKeys,
    arrive,
    undo,
    lambda p: f"takes only the keys of the first {number(p.count)} frames",
    1.4,
)
