"""A tracker's recording made a camera, against the motion it was made from: in pixels, by its own clock."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.motion.recorded import RecordingSettings, Taken, taken, usual_settings
from anaxis.core.motion.samples import Samples, gaps_of, samples_of, samples_of_track
from anaxis.core.motion.tracking_jumps import jumps_of, smallest_jumps
from anaxis.core.time.rates import rate_text
from anaxis.simulated.tracker import Device, measured, walk
from ordinary import SHOTS, track_of

IMAGE = Image(1440, 1920)
RATE = Fraction(24)


def recorded(device: Device, seconds: float = 10.0) -> Samples:
    times = np.arange(int(seconds * device.rate)) / device.rate
    rows, told = measured(device, times)
    return samples_of(rows[told], IMAGE)


def as_camera(samples: Samples, **asked: Any) -> Taken:
    usual: dict[str, Any] = {
        "rate": rate_text(RATE), "first_frame": 1001, "gaps": "bridge", "heal": [j.place for j in jumps_of(samples)], "smooth_px": 0.0, "aspect": None,
        "keep": "width", "film_width_mm": 36.0, "stand": None, "heading_deg": None, "stand_at": None,
    }  # fmt: skip
    return taken(samples, jumps_of(samples), RecordingSettings(**{**usual, **asked}), "walk")


def off_px(made: Taken, device: Device, depth_m: float = 4.0) -> np.ndarray[Any, Any]:
    """How far the take sees points from where the true motion sees them, per frame, by the plain pinhole sum of the phone."""
    true_s = np.arange(len(made.track)) / float(RATE) / (1 + device.clock_ppm * 1e-6)
    place, turn = walk(true_s)
    corners = np.array([(x, y, -1.0) for x in (-0.35, 0.35) for y in (-0.45, 0.45)]) * depth_m
    points = place[:, None, :] + np.einsum("nij,mj->nmi", turn, corners)
    lens, track = made.track.lens, made.track
    seen = np.einsum("nji,nmj->nmi", track.rotation, points - track.position_m[:, None, :])
    focal_px = lens.focal_mm / lens.film_width_mm * made.image.width_px
    found = focal_px[:, None, None] * seen[..., :2] / -seen[..., 2:]
    meant = device.focal_px * corners[None, :, :2] / -corners[None, :, 2:]
    return np.linalg.norm(found - meant, axis=-1).max(axis=1)


def step_m(device: Device, at_s: float) -> float:
    """How far the device's position jumps about ``at_s``, beyond its walk: from the device without noise."""
    still = Device(**{**device.__dict__, "jitter_mm": 0, "jitter_deg": 0, "drops": 0})
    at = round(at_s * device.rate) / device.rate
    rows = measured(still, np.arange(int((at + 0.1) * device.rate)) / device.rate)[0]
    place = round(at * device.rate)
    return float(np.linalg.norm(rows[place, 1:4] - rows[place - 1, 1:4]))


def broken(device: Device, seconds: float, start_s: float, end_s: float) -> Samples:
    """A recording without the samples from ``start_s`` to ``end_s``."""
    times = np.arange(int(seconds * device.rate)) / device.rate
    rows, told = measured(device, times)
    return samples_of(rows[told & ~((times >= start_s) & (times < end_s))], IMAGE)


QUIET = Device(jitter_mm=0, jitter_deg=0, drops=0, jump_every_s=0)


def test_without_noise_the_take_is_the_motion_by_the_devices_clock() -> None:
    made = as_camera(recorded(QUIET))
    assert len(made.track) == 240 and made.track.frames[0] == 1001 and not made.gaps and not made.jumps
    # drawn between samples a sixtieth of a second apart; a clock that runs 40 parts in a million fast is 0.4 ms off in 10 s
    assert off_px(made, QUIET).max() < 0.35
    assert off_px(made, Device(**{**QUIET.__dict__, "clock_ppm": 0.0}))[-1] < 0.5


def test_jumps_are_found_and_healed_and_what_is_left_of_one_is_small() -> None:
    device = Device(jitter_mm=0, jitter_deg=0, drops=0, jump_every_s=3.0)
    samples = recorded(device)
    jumps = jumps_of(samples)
    assert [round(j.at_s, 1) for j in jumps] == [3.0, 6.0, 9.0]
    true_m = [step_m(device, j.at_s) for j in jumps]
    assert [j.metres for j in jumps] == pytest.approx(true_m, abs=0.01)
    assert [j.degrees for j in jumps] == pytest.approx([6.0] * 3, abs=0.1)
    assert off_px(as_camera(samples), device).max() < 3
    left = as_camera(samples, heal=[jumps[0].place])
    assert off_px(left, device)[:140].max() < 3 and off_px(left, device)[150:].max() > 100
    # what is not healed is a cut: no frame is drawn across it
    assert left.track.marked is not None and left.track.frames[left.track.marked > 0].tolist() == [
        1146.0,
        1218.0,
    ]  # its clock is fast: the jump at 6 s comes a little later


def test_noise_and_missing_samples_are_said_and_smoothing_costs_what_was_allowed() -> None:
    device = Device()
    samples = recorded(device, 12.0)
    gaps = gaps_of(samples)
    assert gaps and sum(g.missing for g in gaps) == 12 * 60 - len(samples)
    plain = as_camera(samples)
    assert len(plain.jumps) == 1 and plain.drawn.size
    before_jump = slice(0, 7 * 24 - 4)  # what is left of the jump is another matter
    errors = {0.0: np.median(off_px(plain, device)[before_jump])}
    for most in (1.0, 2.0, 4.0):
        made = as_camera(samples, smooth_px=most)
        assert made.smoothing is not None and 0.7 * most < made.smoothing.max_px <= most
        errors[most] = np.median(off_px(made, device)[before_jump])
    assert errors[0.0] > errors[1.0] > errors[2.0] > errors[4.0] and errors[4.0] < 0.8 * errors[0.0] < 1.5, errors
    held = as_camera(samples, gaps="hold")
    for frame in held.drawn.tolist():
        at = int(frame - 1001)
        before = samples.position_m[np.searchsorted(samples.seconds, at / 24, side="right") - 1]
        if frame < 1001 + 7 * 24 - 2:  # healed poses behind the jump are elsewhere
            np.testing.assert_allclose(held.track.position_m[at], before, atol=1e-9)


def test_the_film_back_by_an_aspect_shows_the_same_pixels() -> None:
    """Cut to 16:9 by its width, the picture in the middle is the phone's own; kept by its height it is wider, and as high."""
    samples = recorded(QUIET, 2.0)
    for keep, size in (("width", (1440, 810)), ("height", (3414, 1920))):
        made = as_camera(samples, aspect=16 / 9, keep=keep, film_width_mm=24.0)
        lens = made.track.lens
        assert (made.image.width_px, made.image.height_px) == size
        np.testing.assert_allclose(lens.focal_mm / lens.film_width_mm * size[0], 1512.0)
        np.testing.assert_allclose(lens.film_width_mm / lens.film_height_mm, size[0] / size[1])
        # the principal point 3.5 px right and 5.25 px above the middle: the window moves the other way
        np.testing.assert_allclose(lens.offset_x_mm / lens.film_width_mm * size[0], -3.5)
        np.testing.assert_allclose(lens.offset_y_mm / lens.film_height_mm * size[1], -5.25)


def test_it_stands_where_it_is_told_to_and_stays_upright() -> None:
    samples = recorded(QUIET, 4.0)
    made = as_camera(samples, stand=(2.0, 1.6, -3.0), heading_deg=90.0, stand_at=1049)
    np.testing.assert_allclose(made.track.position_m[48], [2.0, 1.6, -3.0], atol=1e-12)
    ahead = -made.track.rotation[48, :, 2]
    assert ahead[0] == pytest.approx(-np.hypot(ahead[0], ahead[2])) and abs(ahead[2]) < 1e-12
    plain = as_camera(samples)
    np.testing.assert_allclose(made.track.rotation[:, 1, :], plain.track.rotation[:, 1, :], atol=1e-12)


def test_a_recording_that_is_none_is_said_so() -> None:
    rows, _ = measured(QUIET, np.arange(10) / 60)
    with pytest.raises(BadInput, match="has 1 samples"):
        samples_of(rows[:1], IMAGE)
    wrong = rows.copy()
    wrong[3, 4:8] = 0
    with pytest.raises(BadInput, match="Sample 3"):
        samples_of(wrong, IMAGE)
    late = samples_of(rows[[0, 2, 1, 3, 3, *range(4, 10)]], IMAGE)
    assert len(late) == 10 and (np.diff(late.seconds) > 0).all()
    with pytest.raises(BadInput, match="no frame 2000"):
        as_camera(late, stand=(0, 0, 0), stand_at=2000)


def test_small_jumps_are_found_in_the_usual_noise_and_none_where_there_is_none() -> None:
    for seed in range(4):
        small = recorded(Device(jump_every_s=3.0, jump_m=0.03, jump_deg=1.0, seed=seed))
        assert [round(j.at_s) for j in jumps_of(small)] == [3, 6, 9]
        assert jumps_of(recorded(Device(jump_every_s=0, seed=seed))) == []


def test_a_jump_within_a_gap_is_found_and_healed_and_a_gap_alone_is_none() -> None:
    """Half a second is missing, and behind it the tracker is 35 cm and 6 degrees elsewhere."""
    for seed in range(3):
        device = Device(seed=seed)
        samples = broken(device, 13.5, 6.75, 7.25)
        jumps = jumps_of(samples)
        assert [round(j.at_s, 2) for j in jumps] == [7.25] and jumps[0].degrees == pytest.approx(6.0, abs=2.0)
        off = off_px(as_camera(samples), device)
        assert off[round(7.3 * 24) :].max() < 120 < 200 < off_px(as_camera(samples, heal=[]), device)[-1]
        assert jumps_of(broken(Device(jump_every_s=0, seed=seed), 13.5, 6.75, 7.25)) == []


def test_the_smallest_jump_that_can_be_told_in_a_gap_is_said() -> None:
    (long,) = smallest_jumps(broken(Device(jump_every_s=0), 20.0, 6.75, 7.25), [])
    assert long.metres is not None and 0.02 < long.metres < 0.2 and long.gap_s == pytest.approx(0.5, abs=0.03)
    (nothing,) = smallest_jumps(broken(Device(jump_every_s=0), 3.0, 1.0, 2.8), [])
    assert nothing.metres is None, "a recording of three seconds does not say what its hand does in 1.8"


@pytest.mark.parametrize("name", SHOTS)
def test_no_ordinary_shot_is_taken_for_a_tracker_that_jumped(name: str) -> None:
    samples = samples_of_track(track_of(SHOTS[name]()), Image(1920, 1080), "width")
    jumps = jumps_of(samples)
    assert jumps == []
    made = taken(samples, jumps, usual_settings(samples, jumps), name) if name != "long" else None
    assert made is None or (not made.drawn.size and np.isfinite(made.track.position_m).all())
