"""The channel mapping between packages, against rotations written out by scipy's own Euler angles."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from anaxis.core.space.mapping import ChannelMap, channel_map, rotation_says, says
from anaxis.packages import SHIPPED_KEYS, shipped_profiles

PAIRS = list(product(SHIPPED_KEYS, repeat=2))


def rotation_of(shown_deg: np.ndarray, order: str, signs: tuple[int, ...]) -> np.ndarray:
    """Rotations (n, 3, 3) of angles shown for X, Y, Z: fixed axes in the order named, each counted with its sign."""
    angles = shown_deg * np.array(signs)
    return Rotation.from_euler(order.lower(), angles[:, ["XYZ".index(a) for a in order]], degrees=True).as_matrix()


def typed(entries: tuple[tuple[int, float, float], ...], shown: np.ndarray) -> np.ndarray:
    return np.stack([shown[:, channel] * factor + added for channel, factor, added in entries], axis=1)


@given(st.sampled_from(PAIRS), st.integers(0, 2**31))
def test_what_is_typed_there_is_the_same_rotation_and_place(pair: tuple[str, str], seed: int) -> None:
    source, target = (shipped_profiles()[key].convention for key in pair)
    found = channel_map(source, target)
    rng = np.random.default_rng(seed)
    shown, place = rng.uniform(-180, 180, (8, 3)), rng.normal(size=(8, 3)) * 50
    # The rotation in canonical space, and what the target should hold of it: R_pkg = W R C^T.
    canonical = source.world.T @ rotation_of(shown, source.order, source.signs) @ source.camera
    wanted = target.world @ canonical @ target.camera.T
    order = found.order or target.order
    there = rotation_of(typed(found.rotation, shown), order, target.signs)
    if found.offset_deg is not None:
        there = there @ rotation_of(np.array([found.offset_deg]), order, target.signs)
    assert np.allclose(there, wanted, atol=1e-9)
    metres = place * source.metres_per_unit @ source.world
    assert np.allclose(typed(found.position, place), metres @ target.world.T / target.metres_per_unit, rtol=1e-12)
    assert np.allclose(found.turn @ source.world, target.world) and np.allclose(
        found.camera @ target.camera, source.camera
    )


def test_the_plainest_mapping_is_taken() -> None:
    """Between packages that differ in their unit alone every angle is its own, and nothing is added."""
    metres, centimetres = shipped_profiles()["yup-rh-m"].convention, shipped_profiles()["yup-rh-cm"].convention
    found = channel_map(metres, centimetres)
    assert found.rotation == ((0, 1.0, 0.0), (1, 1.0, 0.0), (2, 1.0, 0.0)) and found.order is None
    assert found.offset_deg is None and found.scale == pytest.approx(100)
    assert found.position == tuple((i, pytest.approx(100), 0.0) for i in range(3))


def test_the_recipe_can_be_typed() -> None:
    assert says(((1, -100.0, 0.0), (0, 1.0, 90.0), (2, 1.0, -90.0)), ("X", "Y", "Z"), "°") == [
        "X there = -Y here × 100", "Y there = X here + 90°", "Z there = Z here - 90°",
    ]  # fmt: skip
    plain = ChannelMap((), ((0, 1.0, 0.0),) * 3, "ZXY", (0.0, -90.0, 12.5), np.eye(3), np.eye(3), 1.0)
    lines = rotation_says(plain)
    assert lines[0] == "Set the rotation order to ZXY there"
    assert "X 0°, Y -90°, Z 12.5°" in lines[1] and len(lines) == 5
