"""Fewer keys: within the pixels chosen on every frame, by other people's curves, and never across a cut."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Literal

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from anaxis.cli import cli
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion import reduce as module
from anaxis.core.motion.keys import KeyRule
from anaxis.core.motion.reduce import Reduced, reduce
from anaxis.core.proof.proof import prove
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.delivery.deliver import deliver
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import read_file
from anaxis.packages import shipped_profiles
from ordinary import SHOTS, track_of
from test_resample import walk

IMAGE = Image(1920, 1080)
NO_MARKS = np.zeros((1, 0, 3))
RULES = [KeyRule(Convention(), way, turns) for way in ("linear", "bezier") for turns in ("angles", "quaternions")]


def few(track: Track, rule: KeyRule, tolerance_px: float) -> Reduced:
    return reduce(track, IMAGE, "width", NO_MARKS, rule, tolerance_px)


def drawn_by_scipy(track: Track, done: Reduced) -> Track:
    """What the keys draw, span by span, with nothing of ours."""
    keys, at = done.keys, track.frames
    columns = []
    for c in range(keys.values.shape[1]):
        values = np.interp(at, keys.frames, keys.values[:, c])
        if keys.rule.interpolation == "bezier":
            for s in range(len(keys) - 1):
                inside = (at >= keys.frames[s]) & (at <= keys.frames[s + 1])
                slopes = [keys.slope_out[s, c], keys.slope_in[s + 1, c]]
                values[inside] = CubicHermiteSpline(keys.frames[s : s + 2], keys.values[s : s + 2, c], slopes)(
                    at[inside]
                )
        columns.append(values)
    table, angles = np.stack(columns, axis=1), keys.rule.turns == "angles"
    if angles:
        turned = Rotation.from_euler("xyz", table[:, 3:6], degrees=True)
    elif keys.rule.interpolation == "linear":
        turned = Slerp(keys.frames, Rotation.from_quat(keys.values[:, 3:7]))(at)
    else:
        turned = Rotation.from_quat(table[:, 3:7])
    lens = {n: table[:, i] for i, n in enumerate(keys.channels) if hasattr(track.lens, n)}
    return replace(track, position_m=table[:, :3], rotation=turned.as_matrix(), lens=replace(track.lens, **lens))


@settings(max_examples=25)
@given(st.sampled_from(RULES), st.floats(0.02, 20.0), st.integers(3, 140))
def test_the_picture_stays_within_the_pixels_chosen(rule: KeyRule, tolerance_px: float, count: int) -> None:
    track = walk(count=count)
    done = few(track, rule, tolerance_px)
    arrived = drawn_by_scipy(track, done)
    proof = prove(track, projection_of(track, IMAGE, "width"), projection_of(arrived, IMAGE, "width"), NO_MARKS)
    assert proof.max_px <= tolerance_px * (1 + 1e-9)
    assert np.allclose(proof.deviation_px, done.deviation_px, atol=1e-6)
    assert done.keys.index[0] == 0 and done.keys.index[-1] == count - 1
    # Focus has no pixel, and is kept to its own share.
    assert np.abs(arrived.lens.focus_m / track.lens.focus_m - 1).max() <= 0.002 + 1e-12


def test_a_straight_move_needs_two_keys_and_a_cubic_one_too() -> None:
    track = walk(count=101)
    u = np.linspace(0, 1, 101)[:, None]
    still = replace(
        track,
        rotation=np.tile(track.rotation[:1], (101, 1, 1)),
        lens=track.lens.select_frames(np.zeros(101, dtype=int)),
    )
    straight = replace(still, position_m=u * [3.0, 0.5, -2.0])
    curved = replace(still, position_m=(u**3 - 1.3 * u**2) * [3.0, 0.5, -2.0])
    assert len(few(straight, RULES[0], 0.01).keys) == 2
    assert len(few(curved, RULES[2], 0.001).keys) == 2
    assert 10 < len(few(curved, RULES[0], 0.1).keys) < 101


def test_curves_need_fewer_keys_and_more_pixels_need_fewer_still() -> None:
    track = walk(count=240)
    found = [[len(few(track, rule, px).keys) for px in (1.0, 5.0, 20.0)] for rule in (RULES[0], RULES[2])]
    assert all(a > b > c for a, b, c in found)
    assert all(curved < straight / 2 for straight, curved in zip(*found, strict=True))


def test_both_sides_of_a_cut_keep_their_keys() -> None:
    track = walk(count=80)
    place, turn = track.position_m.copy(), track.rotation.copy()
    place[40:] += [30.0, 0, 0]
    turn[40:] = Rotation.from_rotvec([0, 2.0, 0]).as_matrix() @ turn[40:]
    done = few(replace(track, position_m=place, rotation=turn), RULES[2], 1.0)
    assert {39, 40} <= set(done.keys.index.tolist())
    assert done.deviation_px.max() <= 1.0


def test_progress_is_told_and_can_stop() -> None:
    told: list[float] = []
    reduce(walk(count=240), IMAGE, "width", NO_MARKS, RULES[0], 0.2, told.append)
    assert told == sorted(told) and told[-1] == 1.0 and len(told) > 5
    with pytest.raises(BadInput, match="above zero"):
        few(walk(count=9), RULES[0], 0.0)


@pytest.mark.parametrize("format_key", ["usd", "json", "columns"])
def test_a_receiver_that_opens_the_file_sees_the_same(format_key: str, tmp_path: Path) -> None:
    """Through the file, by the format library's own interpolation, on every frame; a still lens stays one value."""
    track, profile = walk(count=120), shipped_profiles()["zup-lh-cm"]
    picture = Picture(IMAGE, "width", False, False)
    done = deliver(track, NO_LANDMARKS, picture, profile, format_key, tmp_path, DeliveryOptions(3.0))
    assert done.reduced is not None and len(done.reduced.keys) < 90
    assert 0.01 < done.proof.max_px <= 3.0 * 1.001  # single precision in the lens of USD
    scene = read_file(done.files[0])
    node = scene.camera()
    if format_key == "json":  # the samples the curves draw, and the curves beside them
        kept = json.loads(done.files[0].read_text())["keys"]
        assert kept["frames"] == done.reduced.keys.frames.tolist() and len(node.keys) == 120
    else:
        assert np.allclose(node.keys, done.reduced.keys.frames)


def test_reduce_on_the_command_line(demo_files: dict[str, Path], tmp_path: Path) -> None:
    args = [str(demo_files["TW_020"]), "--to", "zup-rh-m", "--reduce-px", "0.5", "--json"]
    made = CliRunner().invoke(cli, ["transfer", *args, "--format", "json", "--out", str(tmp_path)])
    assert made.exit_code == 0, made.output
    said = json.loads(made.stdout)
    assert said["keys"]["before"] == 240 > 40 > said["keys"]["after"] == len(said["keys"]["frames"])
    assert said["proof"]["max_px"] <= 0.5 and said["keys"]["interpolation"] == "bezier"
    listed = json.loads(CliRunner().invoke(cli, ["values", *args]).stdout)
    assert [f["frame"] for f in listed["frames"]] == listed["keys"]["frames"]
    strict = CliRunner().invoke(
        cli, ["transfer", *args, "--format", "json", "--out", str(tmp_path), "--tolerance-px", "0.1", "--force"]
    )
    assert strict.exit_code == 3


def test_the_slope_on_either_side_of_a_cut_knows_nothing_of_the_jump() -> None:
    """Where the tolerance would allow it, too: a slow push of 1 mm a frame that is cut to one 20 cm further on."""
    track = walk(count=80)
    place = np.zeros((80, 3))
    place[:, 2] = -0.001 * np.arange(80)
    place[40:, 0] += 0.2
    turn = np.tile(np.eye(3), (80, 1, 1))
    keys = few(replace(track, position_m=place, rotation=turn), RULES[2], 400.0).keys
    before, behind = (keys.index.tolist().index(i) for i in (39, 40))
    per_frame = np.array([0, 0, -0.001])
    assert np.allclose(keys.slope_in[before][:3], per_frame, atol=1e-6)
    assert np.allclose(keys.slope_out[behind][:3], per_frame, atol=1e-6)


@pytest.mark.parametrize("turns", ["angles", "quaternions"])
@pytest.mark.parametrize("name", ["jitter", "whip", "long"])
def test_short_spans_measured_at_once_are_those_measured_alone(
    name: str, turns: Literal["angles", "quaternions"], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Over the end of a block of frames, too: a trembling camera needs nearly all keys."""
    track = track_of(SHOTS[name]())
    track = track.select_frames(np.arange(min(len(track), 1300)))
    trembling = replace(
        track, position_m=track.position_m + np.random.default_rng(2).normal(0, 2e-3, track.position_m.shape)
    )
    rule = KeyRule(Convention(), "linear", turns)
    at_once = few(trembling, rule, 1.0)
    monkeypatch.setattr(module, "_OFTEN", 1 << 60)
    alone = few(trembling, rule, 1.0)
    assert len(alone.keys) > 8 and np.array_equal(at_once.keys.index, alone.keys.index)
