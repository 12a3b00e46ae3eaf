"""Frames below 0 dropped."""

from __future__ import annotations

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound
from anaxis.packages.habits.own_first import renumbered


class NoNegative(Parameters):
    pass


def arrive(a: Arriving, p: NoNegative, convention: Convention) -> Arriving:
    return a.kept(a.track.frames >= 0)


def undo(s: Outbound, p: NoNegative) -> Outbound:
    return renumbered(s, 0.0, words(p)) if s.intended[0] < 0 else s


def words(p: NoNegative) -> str:
    return "drops frames below 0"


HABIT = HabitKind("no_negative", "Drops negative frames", NoNegative, arrive, undo, words, 1.4)
