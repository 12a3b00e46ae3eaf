"""Other rates and handles: against motions that are known, exact where samples coincide, and never across a cut."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import cuts_of, with_mark
from anaxis.core.motion.resample import at_rate, landmarks_at, resampling_error, sampled, with_handles
from anaxis.core.proof.proof import prove
from anaxis.core.recipe.model import Operation
from anaxis.core.recipe.replay import replay
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.tree import angle_between_deg
from anaxis.formats import read_file
from anaxis.formats.editorial.timecodes import can_drop, frame_of_timecode, timecode_of
from anaxis.library.archive import track_from_bytes, track_to_bytes
from ordinary import SHOTS, moving_marks, track_of

RATES = [Fraction(r) for r in ("24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60", "120")]


def pose(seconds: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A smooth walk that is known at any time."""
    place = np.stack([2 * np.sin(seconds), 1.7 + 0.1 * np.cos(3 * seconds), -1.5 * seconds], axis=1)
    turn = np.stack([0.2 * np.sin(2 * seconds), 0.8 * np.sin(0.7 * seconds), 0.05 * np.cos(seconds)], axis=1)
    return place, Rotation.from_rotvec(turn).as_matrix()


def walk(rate: Fraction = Fraction(24), count: int = 97, first: float = 1001.0) -> Track:
    frames = first + np.arange(count)
    seconds = np.arange(count) / float(rate)
    place, turn = pose(seconds)
    lens = make_lens(count, focal_mm=30 + 8 * np.sin(seconds), focus_m=4 + np.cos(seconds))
    return Track("walk", frames, rate, place, turn, lens)  # type: ignore[arg-type]


@pytest.mark.parametrize("rate", RATES)
def test_same_time_is_the_known_motion_at_the_new_times(rate: Fraction) -> None:
    source = walk()
    made = at_rate(source, rate, "time")
    seconds = np.arange(len(made)) / float(rate)
    place, turn = pose(seconds)
    assert made.frames[0] == 1001 and len(made) == int(97 / 24 * float(rate) + 1e-9)
    inside = seconds <= 96 / 24 + 1e-9  # behind the last sample, less than a frame of it goes on
    for part, near_m, near_deg, near_mm in ((inside, 2e-5, 1e-2, 3e-3), (~inside, 2e-4, 2e-2, 2e-2)):
        assert np.abs(made.position_m - place)[part].max(initial=0) < near_m
        assert angle_between_deg(made.rotation, turn)[part].max(initial=0) < near_deg
        assert np.abs(made.lens.focal_mm - (30 + 8 * np.sin(seconds)))[part].max(initial=0) < near_mm
    assert np.allclose(made.lens.film_width_mm, 36) and np.isnan(made.lens.fstop).all()
    assert abs(len(made) / float(rate) - len(source) / 24) < 1 / float(rate) + 1e-9  # the duration stays
    kept = at_rate(source, rate, "frames")
    assert (
        kept.rate == rate
        and np.array_equal(kept.position_m, source.position_m)
        and np.array_equal(kept.frames, source.frames)
    )


def test_samples_that_coincide_are_the_source_samples_to_the_last_bit() -> None:
    source = walk()
    double = at_rate(source, Fraction(48), "time")
    assert np.array_equal(double.position_m[::2], source.position_m) and np.array_equal(
        double.rotation[::2], source.rotation
    )
    assert np.array_equal(double.lens.focal_mm[::2], source.lens.focal_mm)
    half = at_rate(double, Fraction(24), "time")
    assert np.array_equal(half.position_m, source.position_m) and np.array_equal(half.rotation, source.rotation)


def test_nothing_is_drawn_across_a_cut() -> None:
    one, two = walk(count=40), walk(count=40)
    frames = 1.0 + np.arange(80)
    joined = Track(
        "cut",
        frames,  # type: ignore[arg-type]
        Fraction(24),
        np.concatenate([one.position_m, two.position_m + np.array([50, 0, 0])]),
        np.concatenate([one.rotation, two.rotation]),
        make_lens(80),
    )
    assert cuts_of(joined).tolist() == [40]
    made = sampled(joined, np.array([39.0, 40.0, 40.25, 40.75, 41.0, 41.5]))
    # What is left of frame 40 goes on as the first piece went.
    alone = sampled(replace(one, frames=frames[:40]), np.array([40.25, 40.75]))  # type: ignore[arg-type]
    known, _ = pose(np.array([39.25, 39.75]) / 24)
    assert np.allclose(made.position_m[2:4], alone.position_m) and np.abs(made.position_m[2:4] - known).max() < 2e-4
    assert np.array_equal(made.position_m[[1, 4]], joined.position_m[[39, 40]])
    alone = sampled(replace(two, frames=frames[40:]), np.array([41.5]))  # type: ignore[arg-type]
    assert np.allclose(made.position_m[5], alone.position_m[0] + np.array([50, 0, 0]))
    whole = at_rate(joined, Fraction(25), "time").position_m[:, 0]
    assert not ((whole > 5) & (whole < 45)).any()


@given(st.sampled_from(RATES), st.sampled_from(RATES), st.integers(24, 120))
def test_there_and_back_keeps_the_picture_within_the_error_stated(
    source_rate: Fraction, rate: Fraction, count: int
) -> None:
    source, image = walk(source_rate, count), Image(1920, 1080)
    made = at_rate(source, rate, "time")
    if len(made) < 8:
        return
    stated = resampling_error(source, made, image, "width")
    step = float(source_rate / rate)
    moving = made.select_frames(np.flatnonzero(step * np.arange(len(made)) <= count - 1 + 1e-9))
    back = at_rate(moving, source_rate, "time")
    n = min(len(back), len(stated.frames)) - 1  # the last frame may be held
    whole = np.arange(len(stated.frames))  # the depths that are looked at follow from the whole motion
    there = back.select_frames(np.minimum(whole, len(back) - 1))
    marks = np.zeros((1, 0, 3))
    measured = prove(
        source.select_frames(whole),
        projection_of(source.select_frames(whole), image, "width"),
        projection_of(there, image, "width"),
        marks,
    )
    assert np.allclose(measured.deviation_px[:n], stated.deviation_px[:n], atol=1e-6)
    if rate >= source_rate:
        assert stated.max_px < 0.2


def test_handles_hold_or_go_on() -> None:
    source = walk()
    held = with_handles(source, 8, 4, "hold")
    assert held.frames[0] == 993 and held.frames[-1] == 1101 and len(held) == 109
    assert np.array_equal(held.position_m[:9], np.repeat(source.position_m[:1], 9, axis=0))
    on = with_handles(source, 2, 2, "extend")
    step = source.position_m[1] - source.position_m[0]
    assert np.allclose(on.position_m[:3], source.position_m[0] + np.array([[-2], [-1], [0]]) * step)
    turns = angle_between_deg(on.rotation[:-1], on.rotation[1:])
    assert np.allclose(turns[:3], turns[2]) and np.allclose(turns[-3:], turns[-3])
    for head, way, said in (
        (-1, "hold", "are not possible"),
        (2000, "hold", "are not possible"),
        (1, "loop", "not a way to make handles"),
    ):
        with pytest.raises(BadInput, match=said):
            with_handles(source, head, 0, way)


def test_rates_and_handles_are_operations_of_a_recipe(demo_files: dict) -> None:
    scene = read_file(demo_files["TW_020"])
    recipe = (Operation("rate", {"rate": "50", "keep": "time"}), Operation("handles", {"head": 8, "way": "hold"}))
    work = replay(scene, scene.cameras[0].path, recipe)
    assert work.done.rate == 50 and len(work.done) == 488 and work.done.frames[0] == -7
    with pytest.raises(BadInput, match="'never' is not a frame rate"):
        replay(scene, scene.cameras[0].path, (Operation("rate", {"rate": "never", "keep": "time"}),))


def test_a_cut_marked_by_hand_is_not_crossed_and_a_leap_can_be_none() -> None:
    source = walk(count=60)
    marked = with_mark(source, 1031, True)
    assert cuts_of(source).tolist() == [] and cuts_of(marked).tolist() == [30]
    made = at_rate(marked, Fraction(50), "time")
    step = made.frames - made.frames[0]
    at = 1001 + step * 24 / 50
    between = (at > 1030 + 1e-6) & (at < 1031 - 1e-6)
    known, _ = pose((at[between] - 1001) / 24)
    assert between.any() and np.abs(made.position_m[between] - known).max() < 2e-4
    assert cuts_of(made).tolist() == [int(np.argmax(at >= 1031 - 1e-9))]
    place = source.position_m.copy()
    place[30:] += [9.0, 0, 0]
    leaping = replace(source, position_m=place)
    assert cuts_of(leaping).tolist() == [30] and cuts_of(with_mark(leaping, 1031, False)).tolist() == []
    handled = with_handles(with_mark(source, 1031, True), 5, 3, "hold")
    assert cuts_of(handled).tolist() == [35] and cuts_of(handled.select_frames(np.arange(30, 50))).tolist() == [5]
    kept = track_from_bytes(track_to_bytes(marked, NO_LANDMARKS, np.zeros((0, 2, 3))))[0]
    assert cuts_of(kept).tolist() == [30]
    for frame in (1001, 1000, 1031.5):
        with pytest.raises(BadInput, match="No cut is possible before"):
            with_mark(source, frame, True)


@pytest.mark.parametrize("rate", RATES)
def test_timecode_counts_as_the_standard_does(rate: Fraction) -> None:
    """Against the arithmetic of drop-frame spelled out: two numbers a minute for 30 frames, not in tenths."""
    count, drop = round(rate), can_drop(rate)
    for frame in (0, 1, count * 60 - 1, count * 60, count * 600, 107_892, 1_234_567):
        plain = timecode_of(frame, rate)
        hours, rest = divmod(frame, count * 3600)
        assert plain and [int(p) for p in plain.split(":")] == [
            hours % 24,
            rest // (count * 60),
            rest // count % 60,
            rest % count,
        ]
        assert frame_of_timecode(plain, rate) == frame % (86_400 * count)
        if drop:
            skipped = count // 15
            tens, within = divmod(frame, count * 600 - 9 * skipped)
            number = frame + 9 * skipped * tens + skipped * max(0, (within - skipped) // (count * 60 - skipped))
            said = timecode_of(frame, rate, True)
            assert said and [int(p) for p in said.replace(";", ":").split(":")] == [
                number // (count * 3600),
                number // (count * 60) % 60,
                number // count % 60,
                number % count,
            ]
            assert frame_of_timecode(said, rate) == frame
    assert timecode_of(-1, rate) is None and timecode_of(0.5, rate) is None
    assert timecode_of(5, Fraction(25, 2)) is None


@pytest.mark.parametrize(
    "text", ["", "1:2:3", "25:00:00:00", "00:61:00:00", "00:00:00:99", "aa:00:00:00", "00:01:00;00"]
)
def test_a_timecode_that_is_none_says_so(text: str) -> None:
    for rate in (Fraction(30000, 1001), Fraction(24), Fraction(13, 2)):
        with pytest.raises(BadInput):
            frame_of_timecode(text, rate)


def test_landmarks_that_move_are_where_they_were_after_a_half_frame_bake_and_a_retime() -> None:
    from ordinary import landmarks_of_shot

    shot = moving_marks()
    half = replace(track_of(shot), frames=shot.frames)
    frames = 1001 + np.arange(95) / 2
    doubled = sampled(half, frames)
    marks = landmarks_at(half, landmarks_of_shot(shot), frames)
    assert np.allclose(marks.position_m[:, 0], shot.marks["ferry"](frames), atol=1e-6)
    for rate in (Fraction(30), Fraction(25), Fraction(48)):
        made = at_rate(doubled, rate, "time")
        at = frames[0] + float(Fraction(24) / rate) * np.arange(len(made))
        moved = landmarks_at(doubled, marks, at)
        assert np.allclose(moved.position_m[:, 0], shot.marks["ferry"](at), atol=1e-5)
        assert np.allclose(moved.position_m[:, 1], [2.0, 1.0, -3.0])


@pytest.mark.parametrize("name", ["still", "held", "whip", "primes"])
@pytest.mark.parametrize("rate", ["25", "30", "48"])
def test_a_retime_of_an_ordinary_shot_shows_what_the_camera_did(name: str, rate: str) -> None:
    """Holds stay still, a whip pan stays one, a prime lens is one of its own; within 2 px at 1920 of the motion known."""
    shot = SHOTS[name]()
    made = at_rate(track_of(shot), Fraction(rate), "time")
    at = shot.frames[0] + float(Fraction(24) / Fraction(rate)) * np.arange(len(made))
    place, turn, focal = shot.at(np.minimum(at, shot.frames[-1] + 0.999))
    if name == "primes":
        assert set(made.lens.focal_mm.tolist()) <= {35.0, 85.0, 50.0} and np.array_equal(made.lens.focal_mm, focal)
    off_deg = angle_between_deg(made.rotation, turn)
    inside = at <= shot.frames[-1]
    # A whip of 120 degrees over six frames is told to half a degree between them; all else to a hundredth.
    assert off_deg[inside].max() < (1.6 if name == "whip" else 0.03)
    assert np.abs(made.position_m - place)[inside].max() < 2e-3
    if name == "held":
        rest = at < 1001 + 60
        assert (
            np.ptp(made.position_m[rest], axis=0).max() == 0
            and angle_between_deg(made.rotation[rest], turn[rest]).max() < 1e-9
        )


def test_a_zoom_never_leaves_the_values_beside_it() -> None:
    focal = np.concatenate([np.full(20, 12.0), [40.0, 180.0], np.full(20, 250.0)])
    track = replace(walk(count=42), lens=make_lens(42, focal_mm=focal))
    for rate in ("25", "30", "48"):
        made = at_rate(track, Fraction(rate), "time").lens.focal_mm
        assert made.min() >= 12 and made.max() <= 250 and (np.diff(made) >= 0).all()


def test_before_the_first_sample_the_first_one_is_held() -> None:
    track = walk(count=12)
    seen = sampled(
        track, np.array([track.frames[0] - 3, track.frames[0] - 0.25, track.frames[0], track.frames[0] + 0.5])
    )
    for early in (0, 1):
        assert np.array_equal(seen.position_m[early], track.position_m[0])
        assert np.allclose(seen.rotation[early], track.rotation[0], atol=1e-12)
        assert seen.lens.focal_mm[early] == track.lens.focal_mm[0]
    assert not np.allclose(seen.position_m[3], track.position_m[0])
