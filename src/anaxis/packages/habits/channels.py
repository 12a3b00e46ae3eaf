"""The package's own numbers under each other's names, or with other signs."""

from __future__ import annotations

import numpy as np
from pydantic import field_validator

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, asked
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class Channels(Parameters):
    position: str = asked("x, y, z take", default="+X+Y+Z")
    rotation: str = asked("rotations take", default="+X+Y+Z")

    @field_validator("position", "rotation")
    @classmethod
    def _each_once(cls, text: str) -> str:
        signed_channels(text)
        return text


def signed_channels(text: str) -> tuple[list[int], Floats]:
    """``"+X-Z+Y"``: which channel each of x, y, z takes, and its sign. Raises BadInput."""
    parts = [text[i : i + 2] for i in range(0, len(text), 2)]
    if (
        len(text) != 6
        or any(p[0] not in "+-" or p[1] not in "XYZ" for p in parts)
        or {p[1] for p in parts} != set("XYZ")
    ):
        raise BadInput(f"'{text}' does not say which channel goes where: write +X+Y+Z, or such as +X-Z+Y.")
    return ["XYZ".index(p[1]) for p in parts], np.array([1.0 if p[0] == "+" else -1.0 for p in parts])


def arrive(a: Arriving, p: Channels, convention: Convention) -> Arriving:
    c, track = convention, a.track
    order, signs = signed_channels(p.position)
    place = c.position_from_canonical(track.position_m)[:, order] * signs
    order, signs = signed_channels(p.rotation)
    angles = angles_from_matrices(c.rotation_from_canonical(track.rotation), c.order, c.signs)
    turn = matrices_from_angles(angles.deg[:, order] * signs, c.order, c.signs)
    return a.moved(c.position_to_canonical(place), c.rotation_to_canonical(turn))


def undo(s: Outbound, p: Channels) -> Outbound:
    c, track = s.convention, s.track
    order, signs = signed_channels(p.position)
    place, old = np.empty_like(track.position_m), c.position_from_canonical(track.position_m)
    place[:, order] = old * signs
    order, signs = signed_channels(p.rotation)
    angles = angles_from_matrices(c.rotation_from_canonical(track.rotation), c.order, c.signs).deg
    sent = np.empty_like(angles)
    sent[:, order] = angles * signs
    turn = matrices_from_angles(sent, c.order, c.signs)
    return s.moved(c.position_to_canonical(place), c.rotation_to_canonical(turn))


def words(p: Channels) -> str:
    read = {"position": p.position, "rotation": p.rotation}
    return "reads " + " and ".join(f"{what} as {held}" for what, held in read.items() if held != "+X+Y+Z")


HABIT = HabitKind("channels", "Swaps or negates channels", Channels, arrive, undo, words, 1.8)
