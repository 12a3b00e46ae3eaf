"""The camera's parents left out."""

from __future__ import annotations

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class Parents(Parameters):
    pass


def arrive(a: Arriving, p: Parents, convention: Convention) -> Arriving:
    return a.moved(a.local[:, :3, 3], a.local[:, :3, :3])


def undo(s: Outbound, p: Parents) -> Outbound:
    return s  # deliveries have no parents


HABIT = HabitKind(
    "parents", "Ignores parents", Parents, arrive, undo, lambda p: "leaves the camera's parents out", 1.2, on_tree=True
)
