"""The file's up axis is not listened to."""

from __future__ import annotations

from typing import Literal

from anaxis.core.parameters import Parameters, asked
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class UpAxis(Parameters):
    up: Literal["X", "Y", "Z"] = asked("Takes every file as", "up", default="Y")


def arrive(a: Arriving, p: UpAxis, convention: Convention) -> Arriving:
    return a if a.file_up is None else a.rotated(UP_AXES[p.up].T @ UP_AXES[a.file_up])


def undo(s: Outbound, p: UpAxis) -> Outbound:
    if s.file_up is None or s.file_up == p.up:
        return s
    return s.rotated((UP_AXES[p.up].T @ UP_AXES[s.file_up]).T)


HABIT = HabitKind(
    "up_axis",
    "Ignores the file's up axis",
    UpAxis,
    arrive,
    undo,
    lambda p: f"takes every file as {p.up} up, whatever it says",
)
