"""Habits about the numbers themselves: channels that are swapped, rotation order, rounding, no roll."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import field_validator

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, parameter
from anaxis.core.scene.tree import level_axes, roll_deg
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class Channels(Parameters):
    """The package's own numbers under each other's names, or with other signs."""

    position: str = parameter("x, y, z take", default="+X+Y+Z")
    rotation: str = parameter("rotations take", default="+X+Y+Z")

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


def _channels_arrives(a: Arriving, p: Channels, convention: Convention) -> Arriving:
    c, track = convention, a.track
    order, signs = signed_channels(p.position)
    place = c.position_from_canonical(track.position_m)[:, order] * signs
    order, signs = signed_channels(p.rotation)
    angles = angles_from_matrices(c.rotation_from_canonical(track.rotation), c.order, c.signs)
    turn = matrices_from_angles(angles.deg[:, order] * signs, c.order, c.signs)
    return a.moved(c.position_to_canonical(place), c.rotation_to_canonical(turn))


def _channels_undone(s: Outbound, p: Channels) -> Outbound:
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


def _channels_words(p: Channels) -> str:
    read = {"position": p.position, "rotation": p.rotation}
    return "reads " + " and ".join(f"{what} as {held}" for what, held in read.items() if held != "+X+Y+Z")


CHANNELS = HabitKind(
    "channels", "Swaps or negates channels", Channels, _channels_arrives, _channels_undone, _channels_words, 1.8
)


Order = Literal["XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"]


class RotationOrder(Parameters):
    """Angles read in another rotation order than they are written in."""

    written: Order = parameter("Angles are written in", default="XYZ")
    read: Order = parameter("And read in", default="ZXY")


def reordered(rotation: Floats, written: str, read: str, convention: Convention) -> Floats:
    """Rotations (n, 3, 3) whose angles about a package's axes, taken in one order, are put together in another."""
    angles = angles_from_matrices(convention.rotation_from_canonical(rotation), written).deg
    return convention.rotation_to_canonical(matrices_from_angles(angles, read))


def _rotation_order_arrives(a: Arriving, p: RotationOrder, convention: Convention) -> Arriving:
    return a.moved(a.track.position_m, reordered(a.track.rotation, p.written, p.read, convention))


def _rotation_order_undone(s: Outbound, p: RotationOrder) -> Outbound:
    return s.moved(s.track.position_m, reordered(s.track.rotation, p.read, p.written, s.convention))


def _rotation_order_words(p: RotationOrder) -> str:
    return (
        f"reads angles that are written in the order {p.written} in the order {p.read} (about fixed axes; about moving ones "
        f"that is {p.read[::-1]})"
    )


ROTATION_ORDER = HabitKind(
    "rotation_order",
    "Reads another rotation order",
    RotationOrder,
    _rotation_order_arrives,
    _rotation_order_undone,
    _rotation_order_words,
    1.3,
)


class Snap(Parameters):
    """Samples between frames moved to whole frames."""


def _snap_arrives(a: Arriving, p: Snap, convention: Convention) -> Arriving:
    frames, first = np.unique(np.round(a.track.frames), return_index=True)
    return a.kept(np.isin(np.arange(len(a.track)), first)).on_frames(frames)


def _snap_undone(s: Outbound, p: Snap) -> Outbound:
    if (s.track.frames == np.round(s.track.frames)).all():
        return s
    return s.but("The package moves samples between frames to whole frames: bake the camera on whole frames.")


SNAP = HabitKind(
    "snap",
    "Snaps sub-frames",
    Snap,
    _snap_arrives,
    _snap_undone,
    lambda p: "moves samples between frames to whole frames",
    1.4,
    on_objects=True,
)


class NoRoll(Parameters):
    """The horizon levelled."""


def _no_roll_arrives(a: Arriving, p: NoRoll, convention: Convention) -> Arriving:
    track = a.track
    return a.moved(track.position_m, level_axes(track.rotation[:, :, 2], track.rotation[:, :, 0]))


def _no_roll_undone(s: Outbound, p: NoRoll) -> Outbound:
    rolled = float(np.abs(roll_deg(s.track.rotation)).max())
    if rolled < 1e-6:
        return s
    return s.but(
        f"The package levels the horizon, but the camera rolls by up to {rolled:.2f} degrees: key the roll in the package."
    )


NO_ROLL = HabitKind(
    "no_roll", "Drops the roll", NoRoll, _no_roll_arrives, _no_roll_undone, lambda p: "levels the horizon", 1.3
)
