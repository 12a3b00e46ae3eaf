"""The proof against plain sums: at which depths it looks, and what a shift, a turn or a missing frame comes to there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.proof.proof import grade_of, owing, prove
from ordinary import SHOTS, track_of
from test_resample import walk

IMAGE = Image(1920, 1080)
NO_MARKS = np.zeros((1, 0, 3))


def still(count: int = 12, focus_m: float = 50.0, travel_m: float = 0.0, focal_mm: float = 35.0) -> Track:
    """A camera at the origin that looks along -Z and travels sideways."""
    made = walk(count=count)
    place = np.zeros((count, 3))
    place[:, 0] = np.linspace(0, travel_m, count)
    lens = replace(made.lens, focal_mm=np.full(count, focal_mm), focus_m=np.full(count, focus_m), film_width_mm=np.full(count, 36.0),
                   offset_x_mm=np.zeros(count), offset_y_mm=np.zeros(count))  # fmt: skip
    return replace(made, position_m=place, rotation=np.tile(np.eye(3), (count, 1, 1)), lens=lens)


def shifted_px(track: Track, shift_m: float, marks: np.ndarray = NO_MARKS) -> float:
    meant = projection_of(track, IMAGE, "width")
    moved = replace(track, position_m=track.position_m + np.array([0, shift_m, 0]))
    return prove(track, meant, projection_of(moved, IMAGE, "width"), marks).max_px


ZOOM_PX = 35.0 * 1920 / 36.0


@pytest.mark.parametrize(
    ("travel_m", "focus_m", "nearest_m"),
    [
        (10.0, 500.0, 30.0),  # three times the camera's own travel
        (2.0, 500.0, 6.0),
        (0.0, 500.0, 1.0),  # of a camera that stands a metre,
        (90.0, 500.0, 100.0),  # nor further than a hundred
        (10.0, 4.0, 2.0),  # half the focus distance, where that is nearer
        (0.0, 0.0, 1.0),  # a focus distance of zero says nothing
    ],
)
def test_a_shift_is_seen_at_the_nearest_depth(travel_m: float, focus_m: float, nearest_m: float) -> None:
    """A camera shifted by d metres moves a point at depth z by zoom * d / z px."""
    seen = shifted_px(still(focus_m=focus_m, travel_m=travel_m), 0.01)
    assert seen == pytest.approx(ZOOM_PX * 0.01 / nearest_m, rel=1e-9)


@pytest.mark.parametrize(
    ("travel_m", "near_m", "nearest_m"),
    [
        (0.03, np.nan, 0.1),  # a table top: ten centimetres where no near plane is stated,
        (0.03, 0.02, 0.09),  # three times its travel,
        (0.004, 0.01, 0.02),  # no nearer than twice the near plane,
        (0.004, 0.001, 0.012),
        (0.004, 2.0, 1.0),  # whatever a near plane says, a metre
    ],
)
def test_a_camera_that_moves_little_is_looked_at_from_near_by(travel_m: float, near_m: float, nearest_m: float) -> None:
    track = still(travel_m=travel_m, focus_m=500.0)
    track = replace(track, lens=replace(track.lens, near_m=np.full(len(track), near_m)))
    assert shifted_px(track, 1e-5) == pytest.approx(ZOOM_PX * 1e-5 / nearest_m, rel=1e-6)


def test_landmarks_bring_their_own_depth() -> None:
    marks = np.array([[[0.2, 0.1, -0.5]]])
    assert shifted_px(still(), 0.01, marks) == pytest.approx(ZOOM_PX * 0.01 / 0.45, rel=1e-9), (
        "nine tenths of the nearest one"
    )


def test_a_turn_is_seen_in_the_corner_and_a_frame_alone_is_named() -> None:
    track = still()
    turn = np.radians(0.2)
    bent = track.rotation.copy()
    bent[7] = [[1, 0, 0], [0, np.cos(turn), -np.sin(turn)], [0, np.sin(turn), np.cos(turn)]]
    proof = prove(
        track,
        projection_of(track, IMAGE, "width"),
        projection_of(replace(track, rotation=bent), IMAGE, "width"),
        NO_MARKS,
    )
    assert proof.worst_frame == track.frames[7] and np.delete(proof.deviation_px, 7).max() < 1e-9
    assert proof.median_px < 1e-9 and proof.grade == "off"
    # By plain sums over the corners of the image, (x, y) px about its middle, at any depth.
    corners = np.array([(x, y) for x in (-960.0, 960.0) for y in (-540.0, 540.0)])
    rays = np.concatenate([corners[:, :1], -corners[:, 1:], np.full((4, 1), -ZOOM_PX)], axis=1)
    local = rays @ bent[7]
    seen = np.stack([ZOOM_PX * local[:, 0] / -local[:, 2], -ZOOM_PX * local[:, 1] / -local[:, 2]], axis=1)
    assert proof.max_px == pytest.approx(np.linalg.norm(seen - corners, axis=1).max(), rel=1e-9)


@pytest.mark.parametrize("name", sorted(set(SHOTS) - {"long"}))
def test_every_ordinary_shot_is_itself_and_no_shift_of_it_is(name: str) -> None:
    shot = SHOTS[name]()
    track, image = track_of(shot), Image(shot.width_px, shot.height_px)
    meant = projection_of(track, image, "width")
    assert prove(track, meant, meant, NO_MARKS).max_px < 1e-6
    moved = replace(track, position_m=track.position_m + np.array([0.05, 0, 0]))
    assert prove(track, meant, projection_of(moved, image, "width"), NO_MARKS).max_px > 0.01


def test_frames_expected_that_never_came_are_missing_and_nothing_within() -> None:
    track = still(count=10)
    meant = projection_of(track, IMAGE, "width")
    proof = prove(track, meant, meant, NO_MARKS)
    assert proof.within(0.01) and proof.compared == proof.owed == 10
    short = owing(proof, track.frames[0] - 2, track.frames[-1] + 1)
    assert (short.compared, short.owed) == (10, 13) and not short.within(0.01)
    assert short.missing.tolist() == [track.frames[0] - 2, track.frames[0] - 1, track.frames[-1] + 1]


def test_grades() -> None:
    assert [grade_of(px) for px in (0.0, 0.01, 0.0101, 0.1, 0.11, 1.0, 1.01)] == [
        "exact", "exact", "tight", "tight", "visible", "visible", "off",
    ]  # fmt: skip
