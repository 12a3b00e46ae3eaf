"""The channel mapping between two packages: each angle of one as one angle of the other.

Between two conventions a target angle may be ``s * (one source angle) + k * 90 degrees`` (docs/conventions.md,
Channel mapping). Where it is not so in the target's own rotation order, it is in another, or with the camera turned by
right angles below the node that is typed: for R_b = A R_a B the angles of A R_a A^T are those of R_a about other axes
in another order, and A B stays the same whatever R_a is. The plainest is found by trying, and proved on random
rotations.
"""

from __future__ import annotations

from functools import cache
from itertools import permutations, product
from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.space.axes import ORDERS, Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.typing import Floats

AXES = "xyz"
Entries = tuple[tuple[int, float, float], ...]


class ChannelMap(NamedTuple):
    """``position`` and ``rotation``: for target x, y, z the source channel (0 to 2), its factor and what is added.

    ``order`` is the rotation order to set there, where it is another than the package's own. ``offset_deg`` are the
    constant angles, in that order, of the camera below the node on which ``rotation`` is typed; None where the camera
    itself is typed. ``turn`` (3, 3) takes source positions to target ones (times ``scale``); ``camera`` (3, 3) takes
    the source camera's axes to the target's: R_b = turn R_a camera.
    """

    position: Entries
    rotation: Entries
    order: str | None
    offset_deg: tuple[float, float, float] | None
    turn: Floats
    camera: Floats
    scale: float


def channel_map(source: Convention, target: Convention) -> ChannelMap:
    """How the channels of one package become those of another."""
    turn = target.world @ source.world.T
    camera = source.camera @ target.camera.T
    scale = source.metres_per_unit / target.metres_per_unit
    position = tuple((int(np.argmax(np.abs(row))), float(row[np.argmax(np.abs(row))]) * scale, 0.0) for row in turn)
    orders = (target.order, *(o for o in ORDERS if o != target.order))
    shown, wanted = _samples(source, turn, camera)
    for offset in (None, turn @ camera):
        below = wanted if offset is None else wanted @ offset.T
        for order in orders:
            found = _rotation_map(shown, below, order, target.signs)
            if found is not None:
                angles = None if offset is None else angles_from_matrices(offset[None], order, target.signs).deg[0]
                return ChannelMap(
                    position,
                    found,
                    None if order == target.order else order,
                    None if angles is None else (float(angles[0]), float(angles[1]), float(angles[2])),
                    turn,
                    camera,
                    scale,
                )
    raise AssertionError("every pair has one: see the module's head")


def _samples(source: Convention, turn: Floats, camera: Floats) -> tuple[Floats, Floats]:
    """Angles shown in the source (13, 3), those of no rotation first, and the rotations (13, 3, 3) they are there."""
    turns = scipy.spatial.transform.Rotation.random(12, random_state=7).as_matrix()
    shown = np.concatenate([np.zeros((1, 3)), angles_from_matrices(turns, source.order, source.signs).deg])
    return shown, turn @ matrices_from_angles(shown, source.order, source.signs) @ camera


@cache
def _tried() -> tuple[Floats, Floats, Floats]:
    """Every way to take three angles from three: channels, signs and right angles, (k, 3) each, the plainest first."""
    ways = list(
        product(permutations(range(3)), product((1.0, -1.0), repeat=3), product((0.0, 90.0, -90.0, 180.0), repeat=3))
    )
    ways.sort(key=lambda w: _plainness(tuple(zip(*w, strict=True))))
    channels, signs, offsets = (np.array([w[i] for w in ways], dtype=np.float64) for i in range(3))
    return channels, signs, offsets


def _rotation_map(shown: Floats, wanted: Floats, order: str, target_signs: tuple[int, int, int]) -> Entries | None:
    """The plainest way from the angles shown (n, 3) to those of rotations (n, 3, 3) in an order; None where none is."""
    channels, signs, offsets = _tried()
    left = np.arange(len(channels))
    for some in (slice(0, 2), slice(2, 4), slice(4, None)):  # most ways fail on the first ones
        made = np.stack([shown[some][:, channels[left, i].astype(int)] for i in range(3)], axis=2)
        made = (made * signs[left] + offsets[left]).reshape(-1, 3)
        there = matrices_from_angles(made, order, target_signs).reshape(-1, len(left), 3, 3)
        left = left[np.abs(there - wanted[some][:, None]).max(axis=(0, 2, 3)) < 1e-9]
        if not len(left):
            return None
    best = left[0]
    return tuple((int(channels[best, i]), float(signs[best, i]), float(offsets[best, i])) for i in range(3))


def _plainness(found: Entries) -> float:
    return sum(abs(o) / 90 + (s < 0) * 0.1 + (c != i) * 0.01 for i, (c, s, o) in enumerate(found))


def says(entries: Entries, names: tuple[str, ...], unit: str) -> list[str]:
    """Lines a person can type: ``"X there = -Y here × 100"``."""
    out = []
    for i, (channel, factor, added) in enumerate(entries):
        sign = "-" if factor < 0 else ""
        times = f" × {abs(factor):g}" if abs(abs(factor) - 1) > 1e-12 else ""
        plus = f" {'+' if added > 0 else '-'} {abs(added):g}{unit}" if added else ""
        out.append(f"{names[i]} there = {sign}{names[channel]} here{times}{plus}")
    return out


def rotation_says(found: ChannelMap) -> list[str]:
    """What a person does about rotation: the order to set, where the angles go, and the three lines to type."""
    out = [f"Set the rotation order to {found.order} there"] if found.order else []
    if found.offset_deg is not None:
        angles = ", ".join(f"{a.upper()} {v + 0.0:g}°" for a, v in zip(AXES, found.offset_deg, strict=True))
        out.append(f"Parent the camera to a node; the camera's own rotation stays {angles}, and on the node:")
    return out + says(found.rotation, ("rotation X", "rotation Y", "rotation Z"), "°")
