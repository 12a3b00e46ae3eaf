"""The camera taken to look along another of its axes."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import model_validator

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, asked
from anaxis.core.space.axes import Convention, axis_vector
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving, HabitKind, Outbound

Axis = Literal["+X", "-X", "+Y", "-Y", "+Z", "-Z"]


def camera_turn(look: str, up: str) -> Floats:
    """The rotation (3, 3) of a camera whose reader takes it to look along ``look`` with ``up`` up. Raises BadInput."""
    back, high = -axis_vector(look), axis_vector(up)
    if abs(float(back @ high)) > 0.5:
        raise BadInput(f"A camera cannot look along {look} with {up} up: choose another up axis.")
    return np.stack([np.cross(high, back), high, back], axis=1)


class LookAxis(Parameters):
    look: Axis = asked("Looks along", default="+X")
    up: Axis = asked("With up", default="+Y")

    @model_validator(mode="after")
    def _two_axes(self) -> LookAxis:
        camera_turn(self.look, self.up)
        return self


def arrive(a: Arriving, p: LookAxis, convention: Convention) -> Arriving:
    return a.moved(a.track.position_m, a.track.rotation @ camera_turn(p.look, p.up))


def undo(s: Outbound, p: LookAxis) -> Outbound:
    return s.moved(s.track.position_m, s.track.rotation @ camera_turn(p.look, p.up).T)


HABIT = HabitKind(
    "look_axis",
    "Takes another camera look axis",
    LookAxis,
    arrive,
    undo,
    lambda p: f"takes the file's camera to look along {p.look} with {p.up} up",
    1.1,
)
