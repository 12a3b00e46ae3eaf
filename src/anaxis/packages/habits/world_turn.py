"""The whole world rotated about one of the package's axes."""

from __future__ import annotations

from typing import Literal

import numpy as np
import scipy

from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.space.axes import Convention, axis_vector
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class WorldTurn(Parameters):
    axis: Literal["X", "Y", "Z"] = asked("About its axis", default="X")
    angle_deg: Number = asked("By", "°", default=-90.0)


def about_axis(axis: str, angle_deg: float, convention: Convention) -> Floats:
    """A rotation about one of a package's axes, counter-clockwise seen from its positive end, in canonical space."""
    own = scipy.spatial.transform.Rotation.from_rotvec(np.radians(angle_deg) * axis_vector(axis)).as_matrix()
    # In a left-handed world the same picture of a rotation runs the other way; as numbers it is this matrix.
    return convention.world.T @ own @ convention.world


def arrive(a: Arriving, p: WorldTurn, convention: Convention) -> Arriving:
    return a.rotated(about_axis(p.axis, p.angle_deg, convention))


def undo(s: Outbound, p: WorldTurn) -> Outbound:
    return s.rotated(about_axis(p.axis, p.angle_deg, s.convention).T)


HABIT = HabitKind(
    "world_turn",
    "Rotates the world",
    WorldTurn,
    arrive,
    undo,
    lambda p: f"rotates the world by {number(p.angle_deg)} degrees about its {p.axis}",
)
