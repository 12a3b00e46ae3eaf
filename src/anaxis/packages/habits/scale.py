"""Everything scaled."""

from __future__ import annotations

from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class Scale(Parameters):
    factor: Positive = asked("Factor", default=1.0)


def arrive(a: Arriving, p: Scale, convention: Convention) -> Arriving:
    return a.scaled(p.factor)


def undo(s: Outbound, p: Scale) -> Outbound:
    return s.scaled(1.0 / p.factor)


HABIT = HabitKind("scale", "Scales the root", Scale, arrive, undo, lambda p: f"scales everything by {number(p.factor)}")
