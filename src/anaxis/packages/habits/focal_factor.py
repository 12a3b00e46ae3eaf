"""The focal length off by a factor."""

from __future__ import annotations

from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FocalFactor(Parameters):
    factor: Positive = asked("Factor", default=1.0)


def arrive(a: Arriving, p: FocalFactor, convention: Convention) -> Arriving:
    return a.with_lens(focal_mm=a.track.lens.focal_mm * p.factor)


def undo(s: Outbound, p: FocalFactor) -> Outbound:
    return s.with_lens(focal_mm=s.track.lens.focal_mm / p.factor)


HABIT = HabitKind(
    "focal_factor",
    "Focal length by a factor",
    FocalFactor,
    arrive,
    undo,
    lambda p: f"makes the focal length {number(p.factor)} times as long",
    1.05,
)
