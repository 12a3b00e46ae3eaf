"""The channel mapping between two packages: each angle of one as one angle of the other, where that holds.

Between two conventions a target angle may be ``s * (one source angle) + k * 90 degrees`` (DESIGN section 3);
whether it is is found by trying it on many rotations and held against others.
"""

from __future__ import annotations

from itertools import permutations, product
from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.typing import Floats

AXES = "xyz"


class ChannelMap(NamedTuple):
    """``position`` and ``rotation``: for target x, y, z the source channel (0 to 2), its factor and what is added.

    ``rotation`` is None where no such mapping exists. ``turn`` (3, 3) takes source positions to target ones
    (times ``scale``); ``camera`` (3, 3) takes the source camera's axes to the target's: R_b = turn R_a camera.
    """

    position: tuple[tuple[int, float, float], ...]
    rotation: tuple[tuple[int, float, float], ...] | None
    turn: Floats
    camera: Floats
    scale: float


def channel_map(source: Convention, target: Convention) -> ChannelMap:
    """How the channels of one package become those of another."""
    turn = target.world @ source.world.T
    camera = source.camera @ target.camera.T
    scale = source.metres_per_unit / target.metres_per_unit
    position = tuple(
        (int(np.argmax(np.abs(row))), float(row[np.argmax(np.abs(row))]) * scale, 0.0) for row in turn
    )
    return ChannelMap(position, _rotation_map(source, target), turn, camera, scale)


def _rotation_map(source: Convention, target: Convention) -> tuple[tuple[int, float, float], ...] | None:
    turns = Rotation.random(12, random_state=7).as_matrix()
    source_deg = np.concatenate(
        [np.zeros((1, 3)), angles_from_matrices(turns, source.order, source.signs).deg]
    )
    canonical = source.rotation_to_canonical(matrices_from_angles(source_deg, source.order, source.signs))
    wanted = target.rotation_from_canonical(canonical)
    base = angles_from_matrices(wanted[:1], target.order, target.signs).deg[0]
    best: tuple[tuple[int, float, float], ...] | None = None
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        for offset in _offsets(base):
            made = source_deg[:, order] * signs + offset
            if np.abs(matrices_from_angles(made, target.order, target.signs) - wanted).max() < 1e-9:
                found = tuple((order[i], signs[i], float(offset[i])) for i in range(3))
                if best is None or _plainness(found) < _plainness(best):
                    best = found
    return best


def _offsets(base: Floats) -> list[Floats]:
    """Whole right angles; the one that the zero pose asks for first."""
    near = np.round(base / 90) * 90
    rest = [np.array(k, dtype=np.float64) * 90 for k in product((-1, 0, 1, 2), repeat=3)]
    return [near, *rest]


def _plainness(found: tuple[tuple[int, float, float], ...]) -> float:
    return sum(abs(o) / 90 + (s < 0) * 0.1 + (c != i) * 0.01 for i, (c, s, o) in enumerate(found))


def says(entries: tuple[tuple[int, float, float], ...], names: tuple[str, ...], unit: str) -> list[str]:
    """Lines a person can type: ``"X there = -Y here × 100"``."""
    out = []
    for i, (channel, factor, added) in enumerate(entries):
        sign = "-" if factor < 0 else ""
        times = f" × {abs(factor):g}" if abs(abs(factor) - 1) > 1e-12 else ""
        plus = f" {'+' if added > 0 else '-'} {abs(added):g}{unit}" if added else ""
        out.append(f"{names[i]} there = {sign}{names[channel]} here{times}{plus}")
    return out
