"""The file's unit is not listened to."""

from __future__ import annotations

from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class Unit(Parameters):
    metres_per_unit: Positive = asked("Takes a unit as", "m", default=0.01)


def arrive(a: Arriving, p: Unit, convention: Convention) -> Arriving:
    return a if a.file_unit_m is None else a.scaled(p.metres_per_unit / a.file_unit_m)


def undo(s: Outbound, p: Unit) -> Outbound:
    return s if s.file_unit_m is None else s.scaled(s.file_unit_m / p.metres_per_unit)


HABIT = HabitKind(
    "unit",
    "Ignores the file's unit",
    Unit,
    arrive,
    undo,
    lambda p: f"takes a unit of every file as {number(p.metres_per_unit)} m, whatever it says",
)
