"""Angles read in another rotation order than they are written in."""

from __future__ import annotations

from typing import Literal

from anaxis.core.parameters import Parameters, asked
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving, HabitKind, Outbound

Order = Literal["XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"]


class RotationOrder(Parameters):
    written: Order = asked("Angles are written in", default="XYZ")
    read: Order = asked("And read in", default="ZXY")


def reordered(rotation: Floats, written: str, read: str, convention: Convention) -> Floats:
    """Rotations (n, 3, 3) whose angles about a package's axes, taken in one order, are put together in another."""
    angles = angles_from_matrices(convention.rotation_from_canonical(rotation), written).deg
    return convention.rotation_to_canonical(matrices_from_angles(angles, read))


def arrive(a: Arriving, p: RotationOrder, convention: Convention) -> Arriving:
    return a.moved(a.track.position_m, reordered(a.track.rotation, p.written, p.read, convention))


def undo(s: Outbound, p: RotationOrder) -> Outbound:
    return s.moved(s.track.position_m, reordered(s.track.rotation, p.read, p.written, s.convention))


def words(p: RotationOrder) -> str:
    return (
        f"reads angles that are written in the order {p.written} in the order {p.read} (about fixed axes; about moving ones "
        f"that is {p.read[::-1]})"
    )


HABIT = HabitKind("rotation_order", "Reads another rotation order", RotationOrder, arrive, undo, words, 1.3)
