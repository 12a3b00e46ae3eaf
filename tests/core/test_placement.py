"""Placement: the picture of everything moved together stays, pairs are solved, points and headings are met."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from playwright.sync_api import Page, expect
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity, at_frame, from_pairs, heading_of_deg, near_origin, similarity_of
from anaxis.core.scene.card import card_at
from anaxis.core.space.rotation import matrices_from_angles
from anaxis.formats import read_file
from anaxis.packages import shipped_profiles
from pages import fits, ready, take_in
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
        (points[:2], points[:2], "settle no placement"),
        (line, points[:3], "points here lie on one line"),
        (points[:3], line, "points there lie on one line"),
        (points, np.where(points == 5, np.nan, points), "no number"),
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


@pytest.mark.browser
def test_a_camera_is_stood_elsewhere_on_the_page(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=place&to=zup-lh-cm&axes=zup-lh-cm")
    ready(page)
    work = take_camera(read_file(demo_files["TW_010"]), None)
    names, where = work.landmarks.names[:4], work.landmarks.position_m[0, :4]
    turn = Rotation.from_euler("y", 30, degrees=True).as_matrix()
    goal = where @ turn.T + np.array([10.0, 0, -4])
    rows = "\n".join(
        f"{n} {x * 100:.6f} {-0 + z * 100:.6f} {y * 100:.6f}" for n, (x, y, z) in zip(names, goal.tolist(), strict=True)
    )
    page.get_by_text("From landmark pairs").click()
    page.fill("[name=pairs]", "nobody 1 2 3")
    page.get_by_role("button", name="Solve and place").click()
    expect(page.get_by_role("alert")).to_contain_text("nobody")
    page.get_by_text("From landmark pairs").click()
    page.fill("[name=pairs]", rows.splitlines()[0])
    expect(page.locator("#placed-look")).to_contain_text("1 pairs settle no placement")
    wrong = rows.replace(rows.split()[1], str(float(rows.split()[1]) + 40.0), 1)  # the first is 40 cm elsewhere
    page.fill("[name=pairs]", wrong)
    moved = goal.copy()
    moved[0, 0] += 0.4
    left = from_pairs(where, moved, False).residual_m
    expect(page.locator("#placed-look caption")).to_contain_text(f"the worst is {names[int(left.argmax())]}")
    cells = page.locator("#placed-look tbody td:nth-child(2)").all_inner_texts()
    assert [float(c) for c in cells] == pytest.approx(left.tolist(), abs=1e-3)
    page.fill("[name=pairs]", rows)
    expect(page.locator("#placed-look td").first).to_have_text("0.0000")
    assert page.locator("svg.placed polyline.now").count() == 2
    page.get_by_role("button", name="Solve and place").click()
    ready(page)
    expect(page.locator("#panel")).to_contain_text("from 4 pairs; the worst is")
    expect(page.locator("#panel")).to_contain_text("0.0000 m and at most 0.00 px off")
    expect(page.locator(".stations")).to_contain_text("1 change")
    page.goto("/cameras/1?station=place&to=zup-lh-cm&axes=zup-lh-cm")
    ready(page)
    page.get_by_text("A card at one, facing the camera").click()
    page.get_by_role("button", name="Show").last.click()
    expect(page.locator("#card")).to_contain_text("from the camera")
    page.get_by_text("A frame on a point and heading").click()
    page.fill("[name=point]", "0 0 150")
    page.fill("[name=heading]", "0")
    page.get_by_role("button", name="Place it there").click()
    ready(page)
    cells = [page.inner_text(f"[data-cell='theirs_position.{i}']") for i in range(3)]
    assert [float(c.split()[0]) for c in cells] == pytest.approx([0, 0, 150], abs=1e-3)
    page.get_by_role("button", name="Re-centre near the origin").click()
    ready(page)
    expect(page.locator(".stations")).to_contain_text("3 changes")
    fits(page)


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
    with pytest.raises(BadInput, match="stands in the camera"):
        card_at(track, 0, track.position_m[0], convention)
