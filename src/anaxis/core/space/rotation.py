"""Angles: reading three continuous angles out of rotation matrices, and making matrices of them.

``order`` names the axes in the order they are applied about fixed axes, first first, so "XYZ" is
``R = Rz Ry Rx``. Angles are always returned and taken as (about x, about y, about z), whatever the
order. The shown angle is ``sign * angle``.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.errors import BadInput
from anaxis.core.space.axes import Convention, axis_vector
from anaxis.core.typing import Bools, Floats, FloatsLike

# The middle angle within this of +-90 degrees: the first and third turn are about the same line
# and only their sum is known to float64's accuracy.
_LOCKED_DEG = 1e-6
# Within this the first and third angle swing far for a small move of the camera: worth a finding.
NEAR_LOCK_DEG = 2.0
# The plane each axis turns: a positive turn about X takes Y to Z, and so on.
_PLANE = {"X": (1, 2), "Y": (2, 0), "Z": (0, 1)}


class Angles(NamedTuple):
    """``deg`` (n, 3) about x, y, z, continuous over the frames; ``near_lock`` (n,) bool."""

    deg: Floats
    near_lock: Bools


def matrices_from_angles(angles_deg: FloatsLike, order: str, signs: tuple[int, int, int] = (1, 1, 1)) -> Floats:
    """Rotation matrices (n, 3, 3) from shown angles (n, 3) about x, y and z in degrees."""
    angles = np.atleast_2d(np.asarray(angles_deg, dtype=np.float64)) * np.asarray(signs)
    about = {"X": angles[:, 0], "Y": angles[:, 1], "Z": angles[:, 2]}
    out = np.broadcast_to(np.eye(3), (len(angles), 3, 3))
    for axis in order:
        out = _turn(axis, about[axis]) @ out
    return np.ascontiguousarray(out)


def angles_from_matrices(rotation: FloatsLike, order: str, signs: tuple[int, int, int] = (1, 1, 1)) -> Angles:
    """Continuous shown angles of proper rotations (n, 3, 3).

    Of the two Euler solutions of a frame, and all turns of 360 degrees, the one nearest to the
    frame before is taken; the first frame takes the one with the middle angle within +-90. In
    gimbal lock the first angle is held from the last frame that was not locked.
    """
    r = np.asarray(rotation, dtype=np.float64)
    with np.errstate(invalid="ignore"):
        i, j, k = ("XYZ".index(a) for a in order)
        parity = 1.0 if (j - i) % 3 == 1 else -1.0
        # R = Rk(c) Rj(b) Ri(a): the row k of R holds b alone in column i, then a in j and k.
        sin_b = np.clip(-parity * r[:, k, i], -1.0, 1.0)
        cos_b = np.hypot(r[:, k, j], r[:, k, k])
        b = np.arctan2(sin_b, cos_b)
        a = np.arctan2(parity * r[:, k, j], r[:, k, k])
        c = np.arctan2(parity * r[:, j, i], r[:, i, i])
    off_pole_deg = 90.0 - np.abs(np.degrees(b))
    locked = np.degrees(cos_b) < _LOCKED_DEG
    if locked.any():
        a, c = _hold_through_lock(r, order, a, b, c, locked)
    abc = _nearest_solutions(np.degrees(np.stack([a, b, c], axis=1)))
    deg = np.empty_like(abc)
    deg[:, [i, j, k]] = abc
    return Angles(deg * np.asarray(signs) + 0.0, off_pole_deg < NEAR_LOCK_DEG)  # no minus before a zero


def _turn(axis: str, angle_deg: Floats) -> Floats:
    """Turns (n, 3, 3) about one axis, counter-clockwise seen from its positive end."""
    angle = np.atleast_1d(np.radians(angle_deg))
    u, v = _PLANE[axis]
    out = np.zeros((len(angle), 3, 3))
    out[:, u, u] = out[:, v, v] = np.cos(angle)
    out[:, v, u] = np.sin(angle)
    out[:, u, v] = -out[:, v, u]
    w = 3 - u - v
    out[:, w, w] = 1.0
    return out


def _hold_through_lock(r: Floats, order: str, a: Floats, b: Floats, c: Floats, locked: Bools) -> tuple[Floats, Floats]:
    """In locked frames, hold the first angle and put all of the free turn in the third."""
    index = np.where(locked, -1, np.arange(len(a)))
    last_free = np.maximum.accumulate(index)
    a = np.where(locked, np.where(last_free >= 0, a[np.maximum(last_free, 0)], 0.0), a)
    first_two = _turn(order[1], np.degrees(b)) @ _turn(order[0], np.degrees(a))
    third = r @ np.swapaxes(first_two, 1, 2)
    u, v = _PLANE[order[2]]
    return a, np.where(locked, np.arctan2(third[:, v, u], third[:, u, u]), c)


def _nearest_solutions(abc_deg: Floats) -> Floats:
    """Choose between (a, b, c) and (a+180, 180-b, c+180) per frame, then drop turns of 360.

    The distance between two frames' solutions depends only on whether the choice changes, so the
    running choice is the parity of a cumulative sum and needs no loop over frames.
    """
    other = np.stack([abc_deg[:, 0] + 180.0, 180.0 - abc_deg[:, 1], abc_deg[:, 2] + 180.0], axis=1)

    def gap(x: Floats, y: Floats) -> Floats:
        return np.sum(np.square((x - y + 180.0) % 360.0 - 180.0), axis=1)

    stay = gap(abc_deg[1:], abc_deg[:-1])
    change = gap(other[1:], abc_deg[:-1])
    flipped = np.concatenate([[0], np.cumsum(change < stay)]) % 2 == 1
    return np.unwrap(np.where(flipped[:, None], other, abc_deg), period=360.0, axis=0)


def nearest_angles(
    angles_deg: FloatsLike, near_deg: FloatsLike, order: str, signs: tuple[int, int, int] = (1, 1, 1)
) -> Floats:
    """The same rotations (n, 3) in shown angles, each frame's the nearest to ``near_deg`` (n, 3) of all that mean it.

    Of the two Euler solutions and all turns of 360 degrees; a row of ``near_deg`` that is no number leaves its frame as it is.
    """
    spoken = np.asarray(signs, dtype=np.float64)
    own, near = np.asarray(angles_deg, np.float64) * spoken, np.asarray(near_deg, np.float64) * spoken
    places = ["XYZ".index(a) for a in order]
    other = np.empty_like(own)
    other[:, places] = own[:, places] * np.array([1.0, -1.0, 1.0]) + 180.0

    def turned(angles: Floats) -> Floats:
        return angles + 360.0 * np.round((near - angles) / 360.0)

    known: Bools = np.asarray(np.isfinite(near).all(axis=1))
    with np.errstate(invalid="ignore"):
        ways = turned(own), turned(other)
        gap = [np.square(way - near).sum(axis=1) for way in ways]
    closer = np.asarray(np.less(gap[1], gap[0]))
    return np.asarray(np.where(known[:, None], np.where(closer[:, None], ways[1], ways[0]), own) * spoken + 0.0)


def about_axis(axis: str, angle_deg: float, convention: Convention) -> Floats:
    """A rotation about one of a package's axes, counter-clockwise seen from its positive end, in canonical space."""
    own = scipy.spatial.transform.Rotation.from_rotvec(np.radians(angle_deg) * axis_vector(axis)).as_matrix()
    # In a left-handed world the same picture of a rotation runs the other way; as numbers it is this matrix.
    return convention.world.T @ own @ convention.world


def camera_turn(look: str, up: str) -> Floats:
    """The rotation (3, 3) of a camera whose reader takes it to look along ``look`` with ``up`` up. Raises BadInput."""
    back, high = -axis_vector(look), axis_vector(up)
    if abs(float(back @ high)) > 0.5:
        raise BadInput(f"No camera can look along {look} with {up} up: choose another up axis.")
    return np.stack([np.cross(high, back), high, back], axis=1)
