"""Joined over a cut: on every frame the camera of the shot on screen, bit for bit; an oracle of plain loops beside it."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from anaxis.core.camera.lens import Image
from anaxis.core.derive import KINDS, derived_kind
from anaxis.core.derive.derived import Derived, Input, scene_of
from anaxis.core.derive.joined import Join, checked
from anaxis.core.derive.owed import check_range
from anaxis.core.errors import BadInput
from anaxis.core.motion.resample import at_rate, sampled
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.picture import Picture
from anaxis.library.archive import scene_from_bytes, scene_to_bytes
from ordinary import SHOTS, Shot, landmarks_of_shot, pixels, points_ahead, track_of

NAMES = [n for n in SHOTS if n not in ("subframes", "long")]
SEEN = {name: SHOTS[name]() for name in NAMES}


def source(shot: Shot) -> Input:
    image = Image(shot.width_px, shot.height_px)
    return Input(shot.name, track_of(shot), Picture(image, "width", False, False), landmarks_of_shot(shot))


INPUTS = {name: source(shot) for name, shot in SEEN.items()}


def piece(name: str, skip: int, begins: int, frames: int, speed: float = 1.0) -> dict[str, Any]:
    first = float(SEEN[name].frames[0]) + skip
    return {"name": name, "role": name, "first": first, "begins": begins, "frames": frames, "speed": speed}


def join(pieces: list[dict[str, Any]], **more: Any) -> Derived:
    given = {"rate": "24", "first": 1001, "width_px": 1920, "height_px": 1080, **more}
    return KINDS["joined"].derive(INPUTS, {**given, "pieces": pieces})


def on_screen(pieces: list[dict[str, Any]]) -> list[tuple[dict[str, Any], float] | None]:
    """For every frame of the cut the piece on screen and its source frame, by a loop; a gap holds what was before it."""
    low, high = min(p["begins"] for p in pieces), max(p["begins"] + p["frames"] for p in pieces)
    out: list[Any] = []
    for at in range(low, high):
        over = [p for p in pieces if p["begins"] <= at < p["begins"] + p["frames"]]
        out.append((over[-1], over[-1]["first"] + (at - over[-1]["begins"]) * over[-1]["speed"]) if over else out[-1])
    return out


@st.composite
def cuts(draw: st.DrawFn) -> list[dict[str, Any]]:
    at, pieces = draw(st.integers(-5, 5)), []
    for _ in range(draw(st.integers(1, 7))):
        name = draw(st.sampled_from(NAMES))
        have = len(SEEN[name].frames)
        frames = draw(st.integers(1, min(30, have)))
        speed = draw(st.sampled_from([1.0, 1.0, 1.0, 0.0, 2.0]))
        skip = draw(st.integers(0, int(have - 1 - (frames - 1) * speed))) if (frames - 1) * speed < have else None
        if skip is None:
            speed, skip = 1.0, 0
        pieces.append(piece(name, skip, at, frames, speed))
        at += frames + draw(st.sampled_from([0, 0, 0, 3, -2]))
    return pieces


@given(cuts())
def test_every_frame_is_exactly_that_of_the_shot_on_screen(pieces: list[dict[str, Any]]) -> None:
    made = join(pieces)
    track, meant = made.track, on_screen(pieces)
    assert track.frames.tolist() == [1001.0 + i for i in range(len(meant))]
    for i, (shown, frame) in enumerate(m for m in meant if m):
        own = INPUTS[shown["name"]].track
        at = int(np.flatnonzero(own.frames == frame)[0])
        assert (track.position_m[i] == own.position_m[at]).all() and (track.rotation[i] == own.rotation[at]).all()
        assert track.lens.focal_mm[i] == own.lens.focal_mm[at] and track.lens.focus_m[i] == own.lens.focus_m[at]
    # Where another shot begins a cut is marked, and at no other leap of the pose.
    changes = {
        i
        for i in range(1, len(meant))
        if meant[i] and meant[i][0] is not meant[i - 1][0] and not _goes_on(meant[i - 1], meant[i])  # type: ignore[index]
    }
    marked = set() if track.marked is None else set(np.flatnonzero(track.marked > 0).tolist())
    assert changes <= marked
    inside = {i for i in marked - changes if meant[i][0]["name"] not in ("primes",)}  # type: ignore[index]
    assert not inside, "a cut within a shot that has none"
    # As a file of our own and through the bake it is the same, bit for bit.
    scene = scene_from_bytes(scene_to_bytes(scene_of(made, "joined")))
    baked = bake_camera(scene).track
    assert (baked.position_m == track.position_m).all() and (baked.rotation == track.rotation).all()
    assert (baked.lens.focal_mm == track.lens.focal_mm).all()
    kept = np.zeros(len(track)) if track.marked is None else track.marked
    assert ((np.zeros(len(track)) if baked.marked is None else baked.marked) == kept).all()
    assert scene_to_bytes(scene) == scene_to_bytes(scene_of(join(pieces), "joined"))


def _goes_on(before: Any, after: Any) -> bool:
    same = before[0]["role"] == after[0]["role"] and before[0]["speed"] == after[0]["speed"]
    return bool(same and after[1] - before[1] == after[0]["speed"])


def test_a_retimed_shot_is_drawn_within_itself_and_a_cut_stays_one_at_every_rate() -> None:
    pieces = [piece("whip", 10, 0, 40, 0.5), piece("held", 60, 40, 20, 1.5), piece("whip", 60, 60, 20, -1.0)]
    track = join(pieces).track
    for p in pieces:
        at = p["first"] + np.arange(p["frames"]) * p["speed"]
        place, turn, _ = SEEN[p["name"]].at(at)
        rows = slice(p["begins"], p["begins"] + p["frames"])
        assert np.abs(track.position_m[rows] - place).max() < 2e-3 and np.abs(track.rotation[rows] - turn).max() < 2e-3
    for rate in ("25", "30", "12"):
        made = at_rate(track, derived_rate(rate), "time")
        shot = np.searchsorted(
            1001 + np.array([40, 60]), 1001 + (made.frames - 1001) * 24 / float(rate) + 1e-9, side="right"
        )
        for i, p in enumerate(pieces):
            when = (made.frames - 1001) * 24 / float(rate) - p["begins"]
            place, _, _ = SEEN[p["name"]].at((p["first"] + when * p["speed"])[shot == i])
            assert np.abs(made.position_m[shot == i] - place).max() < 0.05, (rate, i)
        assert (np.flatnonzero(made.marked > 0) == np.flatnonzero(np.diff(shot)) + 1).all()  # type: ignore[operator]


def derived_rate(text: str) -> Any:
    from anaxis.core.time.rates import parse_rate

    return parse_rate(text)


def test_nothing_is_drawn_between_two_shots() -> None:
    """Just before a cut the camera goes on as its own shot, just behind it as the next."""
    track = join(
        [piece("smooth_", 0, 0, 1)] if "smooth_" in SEEN else [piece("whip", 5, 0, 30), piece("portrait", 5, 30, 30)]
    ).track
    near = sampled(track, np.array([1030.0, 1030.5, 1030.99, 1031.0]))
    mine, _, _ = SEEN["whip"].at(np.array([1035.0, 1035.5, 1035.99]))
    theirs, _, _ = SEEN["portrait"].at(np.array([1006.0]))
    assert np.abs(near.position_m[:3] - mine).max() < 1e-3 and np.abs(near.position_m[3] - theirs[0]).max() < 1e-9


@pytest.mark.parametrize("film_back", ["stepped", "common"])
def test_shots_of_other_film_backs_show_their_own_pictures(film_back: str) -> None:
    """A narrow film back beside a wide one: every point on the pixel where its own shot sees it."""
    narrow = Shot(**{**SEEN["whip"].__dict__, "name": "narrow", "film_mm": (12.52, 7.0425)})
    inputs = {**INPUTS, "narrow": source(narrow)}
    pieces = [piece("held", 0, 0, 10), {**piece("whip", 20, 10, 30), "name": "narrow", "role": "narrow"}]
    given = {"pieces": pieces, "rate": "24", "width_px": 1920, "height_px": 1080, "film_back": film_back}
    made = KINDS["joined"].derive(inputs, given)
    widths = set(made.track.lens.film_width_mm.tolist())
    assert widths == ({36.0, 12.52} if film_back == "stepped" else {36.0})
    from anaxis.core.camera.projection import projection_of

    seen = projection_of(made.track, made.image, made.fit)
    frames = narrow.frames[20:50]
    points = points_ahead(narrow, frames)
    meant, _ = pixels(narrow, frames, points)
    there, _ = seen.select_frames(slice(10, 40)).project(points)
    assert np.abs(there - meant).max() < 1e-8
    assert "join_film_back" in {f.code for f in made.findings}


def test_another_aspect_keeps_the_width_or_the_height() -> None:
    from anaxis.core.camera.projection import projection_of

    portrait = SEEN["portrait"]
    for keep in ("width", "height"):
        made = join([piece("portrait", 0, 0, 10)], keep=keep)
        points = points_ahead(portrait, portrait.frames[:10])
        meant, _ = pixels(portrait, portrait.frames[:10], points)
        there, _ = projection_of(made.track, made.image, "width").project(points)
        scale = 1920 / 1080 if keep == "width" else 1080 / 1920
        assert np.abs((there - [960, 540]) - (meant - [540, 960]) * scale).max() < 1e-8
        assert "join_aspect" in {f.code for f in made.findings}


def test_disagreements_gaps_and_overlaps_are_said_before() -> None:
    pieces = [
        piece("held", 0, 0, 20),
        piece("whip", 0, 25, 20),
        piece("jitter", 0, 40, 20),
        piece("portrait", 40, 60, 20),
    ]
    settings = Join.model_validate({"pieces": pieces, "rate": "25", "width_px": 1920, "height_px": 1080})
    found = {f.code: f for f in checked(INPUTS, settings)}
    assert found["join_gap"].numbers == {"first": 1021.0, "frames": 5}
    assert "'whip' and 'jitter' overlap from frame 1041 to 1045" in found["join_overlap"].message
    assert found["join_missing_frames"].severity == "error" and "1041 to 1060" in found["join_missing_frames"].message
    assert {"join_rate", "join_resolution", "join_aspect", "join_film_back"} <= set(found)
    with pytest.raises(BadInput, match="12 behind"):
        join(pieces, rate="25")
    held = join(pieces, rate="25", missing="hold")
    assert (held.track.position_m[-12:] == INPUTS["portrait"].track.position_m[-1]).all()
    with pytest.raises(BadInput, match=r"numbered otherwise.*-500 frames"):
        join([piece("held", 500, 0, 20)], missing="hold")
    closed = join(pieces[:2], gaps="close")
    assert len(closed.track) == 40 and not any(f.code == "join_gap" for f in closed.findings)
    with pytest.raises(BadInput, match="no camera"):
        KINDS["joined"].derive({}, settings.model_dump())
    with pytest.raises(BadInput, match="at most 100000"):
        join([piece("held", 0, 0, 20), piece("held", 0, 200_000, 20)])
    with pytest.raises(BadInput, match="not a way to derive"):
        derived_kind("sideways")


def test_landmarks_of_all_shots_come_along() -> None:
    made = join([piece("moving_marks", 10, 0, 20), piece("held", 0, 20, 10), piece("moving_marks", 0, 30, 10)])
    marks, own = made.landmarks, INPUTS["moving_marks"].landmarks
    assert marks.names == ("ferry", "post")
    assert (marks.position_m[:20, 0] == own.position_m[10:30, 0]).all() and (
        marks.position_m[30:, 0] == own.position_m[:10, 0]
    ).all()
    assert (marks.position_m[20:25, 0] == own.position_m[29, 0]).all(), "held outside its own shot, the nearest"


@pytest.mark.parametrize(
    ("typed", "kind"),
    [((1001, 1209), "equal"), ((1000, 1208), "off_by_one"), ((1001, 1210), "off_by_one"), ((1001, 1208), "off_by_one"), ((1001, 1290), "digit_swapped"),
     ((1010, 1209), "digit_swapped"), ((1001, 1150), "too_short"), ((1001, 1300), "too_long"), ((1, 209), "shifted"), ((1050, 1000), "other"),
     ((1051, 1259), "shifted"), ((990, 1300), "too_long"), ((1100, 1150), "too_short")],
)  # fmt: skip
def test_a_range_typed_elsewhere_is_caught(typed: tuple[int, int], kind: str) -> None:
    found = check_range(1001, 1209, *typed)
    assert found.kind == kind and found.equal == (kind == "equal")
    assert kind == "equal" or "1001-1209" in found.said
