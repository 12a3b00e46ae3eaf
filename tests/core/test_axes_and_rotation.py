"""Conventions and angles, against scipy and pytransform3d, and by properties."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pytransform3d.rotations import matrix_from_euler
from scipy.spatial.transform import Rotation

from anaxis.core.errors import BadInput
from anaxis.core.space.axes import ORDERS, SIDES, Convention, axes_matrix, handedness, turned
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles, nearest_angles

SIGNED = [
    np.array(p)[:, None] * np.eye(3)[list(order)]
    for order in itertools.permutations(range(3))
    for p in itertools.product((1, -1), repeat=3)
]
BY_HAND = {s: [m for m in SIGNED if round(np.linalg.det(m)) == s] for s in (1, -1)}


@given(st.sampled_from(SIGNED), st.sampled_from("XYZ"), st.sampled_from([s + k for s in "+-" for k in SIDES]))
def test_an_arm_turned_by_hand_points_there(axes: np.ndarray, arm: str, towards: str) -> None:
    """A quarter turn is a turn: it keeps the handedness; only right round flips it."""
    made = turned(axes, arm, towards)
    wanted = np.eye(3)[SIDES.index(towards[1:])] * (1 if towards[0] == "+" else -1)
    row = "XYZ".index(arm)
    assert (made[row] == wanted).all() and (np.abs(made).sum(axis=0) == 1).all()
    flipped = bool((axes[row] == -wanted).all())
    assert handedness(made) == (-1 if flipped else 1) * handedness(axes)
    across = np.cross(axes[row], wanted)
    kept = [i for i in range(3) if i != row and (flipped or abs(axes[i] @ across) == 1)]
    assert all((made[i] == axes[i]).all() for i in kept)


@st.composite
def conventions(draw: st.DrawFn) -> Convention:
    side = draw(st.sampled_from((1, -1)))
    return Convention(
        world=draw(st.sampled_from(BY_HAND[side])),
        camera=draw(st.sampled_from(BY_HAND[side])),
        metres_per_unit=draw(st.sampled_from((0.001, 0.01, 0.0254, 1.0, 1000.0))),
        order=draw(st.sampled_from(ORDERS)),
        signs=tuple(draw(st.tuples(*[st.sampled_from((1, -1))] * 3))),
    )


@given(conventions(), st.integers(0, 10_000))
def test_there_and_back_is_the_identity(convention: Convention, seed: int) -> None:
    rotation = Rotation.random(20, random_state=seed).as_matrix()
    position = np.random.default_rng(seed).uniform(-1e4, 1e4, (20, 3))
    theirs = convention.rotation_from_canonical(rotation)
    assert np.allclose(np.linalg.det(theirs), 1)
    assert np.allclose(convention.rotation_to_canonical(theirs), rotation, atol=1e-14)
    back = convention.position_to_canonical(convention.position_from_canonical(position))
    assert np.allclose(back, position, rtol=1e-12)
    shown = angles_from_matrices(theirs, convention.order, convention.signs)
    assert np.allclose(matrices_from_angles(shown.deg, convention.order, convention.signs), theirs, atol=1e-9)


def test_the_first_road_by_hand() -> None:
    """Z up, left-handed, looking along +X: a camera at rest looks along -Z, which is their -Y, so it turns by -90."""
    road = Convention(axes_matrix("+X", "+Z", "+Y"), axes_matrix("+Y", "+Z", "-X"), 0.01, "XYZ", (-1, -1, 1))
    assert np.allclose(road.position_from_canonical([1.0, 2.0, 3.0]), [100, 300, 200])
    assert np.allclose(angles_from_matrices(road.rotation_from_canonical(np.eye(3)[None]), "XYZ").deg, [0, 0, -90])
    # Tilting up by 30 degrees shows as +30 there, although the turn about Y is negative.
    up = matrices_from_angles([[30.0, 0, 0]], "XYZ")
    assert np.allclose(angles_from_matrices(road.rotation_from_canonical(up), "XYZ", road.signs).deg, [0, 30, -90])


@pytest.mark.parametrize("order", ORDERS)
def test_matrices_agree_with_two_oracles(order: str) -> None:
    angles = np.random.default_rng(3).uniform(-180, 180, (50, 3))
    ours = matrices_from_angles(angles, order)
    ordered = angles[:, ["XYZ".index(a) for a in order]]
    assert np.allclose(
        ours, Rotation.from_euler(order.lower(), ordered, degrees=True).as_matrix(), rtol=1e-9, atol=1e-12
    )
    axes = ["XYZ".index(a) for a in order]
    one = matrix_from_euler(np.radians(ordered[0]), *axes, extrinsic=True)  # type: ignore[arg-type, misc]
    assert np.allclose(ours[0], one, atol=1e-12)


@pytest.mark.parametrize("order", ORDERS)
def test_angles_are_continuous_through_many_turns(order: str) -> None:
    t = np.linspace(0, 1, 500)[:, None]
    # The middle angle passes over the pole, where the plain read-out would flip by 180 degrees.
    angles = np.empty((500, 3))
    angles[:, ["XYZ".index(a) for a in order]] = t * [900.0, 170.0, -720.0]
    read = angles_from_matrices(matrices_from_angles(angles, order), order)
    assert np.abs(np.diff(read.deg, axis=0)).max() < 10
    assert np.allclose(read.deg, angles, atol=1e-6)
    assert read.near_lock.any() and not read.near_lock.all()


@pytest.mark.parametrize("order", ORDERS)
@pytest.mark.parametrize("pole", (90.0, -90.0))
def test_gimbal_lock_holds_the_first_angle(order: str, pole: float) -> None:
    i, j, k = ("XYZ".index(a) for a in order)
    angles = np.zeros((60, 3))
    angles[:, i], angles[:, k] = np.linspace(10, 70, 60), np.linspace(0, 40, 60)
    angles[:, j] = np.concatenate([np.linspace(0, pole, 20), np.full(40, pole)])
    matrices = matrices_from_angles(angles, order)
    read = angles_from_matrices(matrices, order)
    assert np.allclose(matrices_from_angles(read.deg, order), matrices, atol=1e-6)
    assert np.allclose(read.deg[25:, i], read.deg[25, i], atol=1e-3)
    assert np.abs(np.diff(read.deg, axis=0)).max() < 30


def test_a_mirrored_convention_is_refused_with_the_reason() -> None:
    with pytest.raises(BadInput, match=r"left-handed but the camera axes are right-handed.*mirror"):
        Convention(axes_matrix("+X", "+Z", "+Y"), np.eye(3))
    with pytest.raises(BadInput, match="one axis twice"):
        axes_matrix("+X", "-X", "+Z")


@given(st.sampled_from(ORDERS), st.tuples(*[st.sampled_from((1, -1))] * 3), st.integers(0, 10_000))
def test_the_nearest_angles_are_the_nearest_of_all_that_mean_the_rotation(
    order: str, signs: tuple[int, int, int], seed: int
) -> None:
    """Against every way to write it, looked through one by one: both Euler solutions, and turns of 360 about each axis."""
    dice = np.random.default_rng(seed)
    angles, near = dice.uniform(-180, 180, (4, 3)), dice.uniform(-700, 700, (4, 3))
    near[3] = np.nan
    made = nearest_angles(angles, near, order, signs)
    assert (made[3] == angles[3]).all(), "where nothing is said to be near to, the angles stay"
    first, middle, last = ("XYZ".index(a) for a in order)
    for frame in range(3):
        own = angles[frame] * signs
        other = own + 180
        other[middle] = 180 - own[middle]
        assert last != first and np.allclose(_turned(own, order), _turned(other, order), atol=1e-12)
        ways = [
            way + 360 * np.array(turns) for way in (own, other) for turns in itertools.product(range(-4, 5), repeat=3)
        ]
        wanted = min(ways, key=lambda way: float(np.square(way - near[frame] * signs).sum())) * signs
        assert made[frame] == pytest.approx(wanted, abs=1e-9)


def _turned(angles_deg: np.ndarray, order: str) -> np.ndarray:
    return Rotation.from_euler(order.lower(), [angles_deg["XYZ".index(a)] for a in order], degrees=True).as_matrix()
