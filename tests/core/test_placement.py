"""Placement: the picture of everything moved together stays, pairs are solved, points and headings are met."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity, at_frame, from_pairs, heading_of_deg, near_origin, similarity_of
from anaxis.core.scene.card import card_at
from anaxis.core.space.rotation import matrices_from_angles
from anaxis.packages import shipped_profiles
from test_resample import walk

NUMBERS = st.floats(-50, 50)


@given(st.floats(0.01, 100), st.tuples(NUMBERS, NUMBERS, NUMBERS), st.integers(0, 10_000))
def test_what_moves_together_keeps_its_picture_and_its_pairs(
    scale: float, shift: tuple[float, float, float], seed: int
) -> None:
    turn = Rotation.random(random_state=seed).as_matrix()
    moved = Similarity(scale, turn, np.array(shift))
    random = np.random.default_rng(seed)
    points, track, image = random.normal(size=(6, 3)) * 5, walk(count=4), Image(1920, 1080)
    before, depth = projection_of(track, image, "width").project(points)
    after, _ = projection_of(moved.track(track), image, "width").project(moved.points(points))
    seen = depth > 0.05
    assert np.allclose(after[seen], before[seen], rtol=1e-6, atol=1e-5)
    assert np.allclose(moved.track(track).lens.focus_m, track.lens.focus_m * scale)
    found, off = from_pairs(points, moved.points(points), True)
    assert (
        found.scale == pytest.approx(scale, rel=1e-9)
        and np.allclose(found.turn, turn, atol=1e-9)
        and off.max() < 1e-9 * max(1, scale) * 100
    )
    back = similarity_of(moved.as_params())
    assert np.allclose(back.points(points), moved.points(points), atol=1e-9 * max(1, scale) * 100)


def test_pairs_that_do_not_agree_name_what_is_left_and_mirrors_are_never_taken() -> None:
    points = np.array([[0.0, 0, 0], [4, 0, 0], [0, 3, 0], [0, 0, 5]])
    goal = points + np.array([1.0, 2, 3])
    goal[2, 1] += 0.3
    found, off = from_pairs(points, goal, False)
    assert found.scale == 1.0 and 0.05 < off.max() < 0.3 and int(np.argmax(off)) == 2
    for scale in (False, True):
        with pytest.raises(BadInput, match="mirror image"):
            from_pairs(points, points * np.array([-1.0, 1, 1]) + 0.01, scale)
    # Three points lie in a plane, and a plane's mirror image is a rotation of it.
    flat, off = from_pairs(points[:3], points[:3] * np.array([-1.0, 1, 1]), False)
    assert np.linalg.det(flat.turn) == pytest.approx(1) and off.max() < 1e-9
    line = np.array([[0.0, 0, 0], [1, 1, 1], [2, 2, 2]])
    for ours, theirs, said in (
        (points[:2], points[:2], "are not enough to place the camera"),
        (line, points[:3], "points here are on one line"),
        (points[:3], line, "points there are on one line"),
        (points, np.where(points == 5, np.nan, points), "not a number"),
    ):
        with pytest.raises(BadInput, match=said):
            from_pairs(ours, theirs, False)


@given(st.integers(0, 20), st.floats(-179, 179), st.tuples(NUMBERS, NUMBERS, NUMBERS))
def test_a_frame_stands_on_its_point_and_looks_along_its_heading(
    at: int, heading: float, point: tuple[float, float, float]
) -> None:
    track = walk(count=21)
    placed = at_frame(track, at, np.array(point), heading).track(track)
    assert np.allclose(placed.position_m[at], point, atol=1e-9)
    gap = heading_of_deg(-placed.rotation[at, :, 2]) - heading
    assert abs((gap + 180) % 360 - 180) < 1e-6
    assert np.allclose(placed.rotation[:, 1], track.rotation[:, 1])  # nothing tilts
    kept = at_frame(track, at, np.array(point), None).track(track)
    assert np.allclose(kept.rotation, track.rotation)
    middle = near_origin(track).track(track).position_m
    assert np.allclose((middle.min(axis=0) + middle.max(axis=0))[[0, 2]], 0, atol=1e-9) and np.allclose(
        middle[:, 1], track.position_m[:, 1]
    )


def test_a_card_faces_the_camera_in_the_packages_numbers() -> None:
    track = walk(count=5)
    for key in ("zup-lh-cm", "yup-rh-m", "yup-lh-m"):
        convention = shipped_profiles()[key].convention
        point = np.array([2.0, 0.5, -7.0])
        card = card_at(track, 2, point, convention)
        turn = matrices_from_angles(card.rotation_deg, convention.order, convention.signs)[0]
        face = convention.world.T @ turn @ convention.world @ [0.0, 0, 1]
        away = track.position_m[2] - point
        assert np.allclose(face, away / np.linalg.norm(away), atol=1e-9) and card.away_m == pytest.approx(
            np.linalg.norm(away)
        )
        assert np.allclose(convention.position_to_canonical(card.position), point)
    with pytest.raises(BadInput, match="is at the camera"):
        card_at(track, 0, track.position_m[0], convention)
