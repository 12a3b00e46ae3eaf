"""The world mirrored along one of the package's axes; the camera stays proper, its picture is mirrored with it."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from anaxis.core.parameters import Parameters, asked
from anaxis.core.space.axes import Convention, axis_vector
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class Mirror(Parameters):
    axis: Literal["X", "Y", "Z"] = asked("Along its axis", default="X")


def arrive(a: Arriving, p: Mirror, convention: Convention) -> Arriving:
    flip = np.eye(3) - 2 * np.outer(*(axis_vector(p.axis),) * 2)
    flip = convention.world.T @ flip @ convention.world
    return a.moved(a.track.position_m @ flip.T, flip @ a.track.rotation @ np.diag([-1.0, 1.0, 1.0]))


def undo(s: Outbound, p: Mirror) -> Outbound:
    """A mirror is its own inverse."""
    flip = np.eye(3)
    flip["XYZ".index(p.axis), "XYZ".index(p.axis)] = -1.0
    flip = s.convention.world.T @ flip @ s.convention.world
    made = s.moved(s.track.position_m @ flip, flip @ s.track.rotation @ np.diag([-1.0, 1.0, 1.0]))
    return replace(made, marks_m=s.marks_m @ flip)


HABIT = HabitKind(
    "mirror", "Mirrors the world", Mirror, arrive, undo, lambda p: f"mirrors the world along its {p.axis}", 1.5
)
