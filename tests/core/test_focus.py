"""Focus distances measured to landmarks and objects, and pulled from one to another."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import similarity_of
from anaxis.core.recipe.model import Operation, Work
from anaxis.core.recipe.operations import kind_of
from anaxis.core.scene.landmarks import Landmarks
from lanes import sized
from ordinary import Shot, held, jitter, moving_marks, primes, smooth, still, subframes, track_of, whip

SHOTS = {
    **{f.__name__: f() for f in (still, held, whip, primes, jitter, subframes, moving_marks)},
    "far out": smooth(out_m=5000.0), "frame 86400": smooth(first=86400), "frame -20": smooth(first=-20),
    "three frames": smooth(count=3), "long": smooth(count=sized(12_000, 2_000)),
}  # fmt: skip


def focused(work: Work, **params: object) -> Work:
    kind = kind_of("focus_on")
    return kind.apply(work, kind.read(kind.operation(dict(params)).params))


def work_of(shot: Shot) -> Work:
    """A shot with a still landmark ahead of the camera on every frame, and one that moves."""
    track = track_of(shot)
    ahead = track.position_m - 4.0 * track.rotation[:, :, 2]
    walking = ahead + 0.3 * np.sin(np.arange(len(track)) / 5)[:, None] * track.rotation[:, :, 0]
    marks = Landmarks(("ahead", "walking"), np.stack([ahead, walking], axis=1))
    return Work(None, "", track.frames, lambda sha: None, track=track, landmarks=marks)  # type: ignore[arg-type,return-value]


@pytest.mark.parametrize("shot", SHOTS.values(), ids=SHOTS.keys())
def test_the_focus_is_where_the_object_is_on_every_frame(shot: Shot) -> None:
    work = work_of(shot)
    for name, straight in (("walking", False), ("walking", True), ("ahead", False)):
        measured = "straight" if straight else "along the view axis"
        focus = focused(work, name=name, measured=measured, offset_m=0.25).done.lens.focus_m
        at = work.landmarks.index(name)
        for i in {0, len(work.done) // 2, len(work.done) - 1}:
            away = work.landmarks.position_m[i, at] - work.done.position_m[i]
            expected = np.sqrt(away @ away) if straight else away @ -work.done.rotation[i][:, 2]
            assert focus[i] == pytest.approx(expected + 0.25, rel=1e-9, abs=1e-7)


def test_a_pull_goes_from_one_object_to_the_next_and_eases() -> None:
    work = work_of(SHOTS["held"])
    first, last = work.done.frames[4], work.done.frames[-5]
    from_, to = (focused(work, name=n).done.lens.focus_m for n in ("ahead", "walking"))
    for easing in ("linear", "eased"):
        both = focused(focused(work, name="ahead"), name="walking", first=first, last=last, easing=easing)
        focus, frames = both.done.lens.focus_m, work.done.frames
        np.testing.assert_allclose(focus[frames <= first], from_[frames <= first], rtol=1e-12)
        np.testing.assert_allclose(focus[frames >= last], to[frames >= last], rtol=1e-12)
        middle = len(frames) // 2
        t = (frames[middle] - first) / (last - first)
        share = t if easing == "linear" else 3 * t**2 - 2 * t**3
        assert focus[middle] == pytest.approx((1 - share) * from_[middle] + share * to[middle], rel=1e-12)
    cut = focused(focused(work, name="ahead"), name="walking", first=first).done.lens.focus_m
    assert cut[3] == from_[3] and cut[4] == to[4], "without an end it is a cut in focus"


def test_focus_is_scaled_with_the_world_it_was_measured_in() -> None:
    work = focused(work_of(SHOTS["held"]), name="walking")
    place = similarity_of(
        {"scale": 2.5, "qx": 0.0, "qy": 0.6, "qz": 0.0, "qw": 0.8, "x_m": 1.0, "y_m": 2.0, "z_m": 3.0}
    )
    placed = work.placed(place)
    again = focused(placed, name="walking").done.lens.focus_m
    np.testing.assert_allclose(placed.done.lens.focus_m, again, rtol=1e-9)


def test_what_cannot_be_focused_on_is_said() -> None:
    work = work_of(SHOTS["held"])
    with pytest.raises(BadInput, match="no landmark 'nobody'"):
        focused(work, name="nobody")
    behind = replace(work, landmarks=replace(work.landmarks, position_m=work.landmarks.position_m[:, [1, 0]] * 1.0))
    turned = replace(behind, track=replace(work.done, rotation=-work.done.rotation))
    with pytest.raises(BadInput, match=r"'ahead' is not in front of the camera on \d+ frames, the first of them"):
        focused(turned, name="ahead")
    blind = replace(
        work, track=replace(work.done, lens=replace(work.done.lens, focus_m=np.full(len(work.done), np.nan)))
    )
    with pytest.raises(BadInput, match="no focus distance on frame"):
        focused(blind, name="ahead", first=work.done.frames[2], last=work.done.frames[6])
    with pytest.raises(BadInput, match="type both"):
        focused(work, name="ahead", last=5.0)
    assert kind_of("focus_on").says(Operation("focus_on", {"name": "car", "first": 10, "last": 20}).params) == (
        "car, pulled over frames 10 to 20, eased"
    )
