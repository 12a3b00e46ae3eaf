"""Diagnosis: every habit alone, random pairs, combinations with time, and what nothing explains."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from anaxis.core.landmarks import NO_LANDMARKS
from anaxis.core.proof import prove
from anaxis.core.resample import with_handles
from anaxis.core.track import Track
from anaxis.profiles.diagnosis import EXPLAINED_PX, Diagnosis, diagnose
from anaxis.profiles.model import Profile
from anaxis.profiles.standin import open_as_package
from anaxis.sending import deliver
from test_habits import CURABLE, IMAGE, INCURABLE, PICTURE, shot, with_habits

# Habits that say the same of one camera: whichever is named, undoing it closes the proof.
SAME = {
    "up_axis": {"world_turn"}, "unit": {"scale"}, "own_first": {"own_first", "frame_offset"}, "frame_offset": {"own_first", "frame_offset"},
}  # fmt: skip


def arrival(track: Track, profile: Profile, format_key: str, folder: Path) -> Track:
    """What a package with habits makes of a file that knows nothing of them."""
    plain = deliver(
        track, NO_LANDMARKS, PICTURE, profile.model_copy(update={"habits": ()}), format_key, folder
    )
    return open_as_package(plain.files[0], profile, IMAGE, None, track.rate).track


def told(track: Track, profile: Profile, format_key: str, folder: Path) -> Diagnosis:
    return diagnose(track, arrival(track, profile, format_key, folder), IMAGE, "width", profile.convention)


def habit(code: str) -> tuple[dict[str, Any], str]:
    params, format_key = CURABLE[code] if code in CURABLE else (INCURABLE[code][0], "usd")
    return {"code": code, **params}, format_key


@pytest.mark.parametrize("code", [*CURABLE, *INCURABLE])
def test_each_habit_alone_is_found(code: str, tmp_path: Path) -> None:
    params, format_key = habit(code)
    profile, track = with_habits("zup-lh-cm", params), shot(offset_y_mm=0.4)
    found = told(track, profile, format_key, tmp_path)
    assert found.explained, found.explanations[0].sentence
    first = found.explanations[0]
    causes = [c for c, _ in first.causes]
    # What the format itself drops is told beside it.
    own = [c for c in causes if not (format_key in ("gltf", "collada") and c == "no_offsets")]
    assert len(own) == 1 and own[0] in SAME.get(code, {code}), causes
    assert (
        first.residual_px <= EXPLAINED_PX
        and first.sentence.endswith("remain.")
        and "package" in first.sentence
    )
    if code in (
        "world_turn",
        "scale",
        "look_axis",
        "film_factor",
        "focal_factor",
        "film_default",
        "mirror",
        "channels",
        "first_keys",
    ):
        said = dict(first.causes[0][1])
        for name, value in params.items():
            if name != "code":
                assert (
                    said[name] == pytest.approx(value, rel=1e-5)
                    if isinstance(value, (int, float))
                    else said[name] == value
                )


@pytest.mark.parametrize(
    "first",
    [
        {"code": "world_turn", "axis": "X", "angle_deg": -90.0},
        {"code": "world_turn", "axis": "Y", "angle_deg": 90.0},
        {"code": "look_axis", "look": "+X", "up": "+Y"},
        {"code": "twice"},
        {"code": "mirror", "axis": "X"},
    ],
)
def test_a_horizon_levelled_after_something_else_is_told_from_it(
    first: dict[str, Any], tmp_path: Path
) -> None:
    profile, track = with_habits("zup-lh-cm", first, {"code": "no_roll"}), shot()
    found = told(track, profile, "usd", tmp_path)
    assert found.explained, found.explanations[0].sentence
    codes = [c for c, _ in found.explanations[0].causes]
    assert codes[-1] == "no_roll" and first["code"] in (codes[0], "twice"), codes


def test_random_pairs_are_found_and_undoing_them_closes_the_proof(tmp_path: Path) -> None:
    """Pairs drawn at random; the causes found are made habits, and what is sent by them is exact."""
    random = np.random.default_rng(11)
    codes = [c for c in CURABLE if c not in ("channels", "own_first", "film_default")]
    track, explained, closed = shot(offset_y_mm=0.4), 0, 0
    for _ in range(24):
        pair = [habit(str(c))[0] for c in random.choice(codes, 2, replace=False)]
        profile = with_habits("zup-lh-cm", *pair)
        found = told(track, profile, "usd", tmp_path)
        explained += found.explained
        if found.explained:
            learned = with_habits("zup-lh-cm", *({"code": c, **p} for c, p in found.explanations[0].causes))
            sent = deliver(track, NO_LANDMARKS, PICTURE, learned, "usd", tmp_path)
            seen = open_as_package(sent.files[0], profile, IMAGE, sent.seen.frames, track.rate)
            closed += prove(track, IMAGE, "width", seen.pixel_matrices, np.zeros((1, 0, 3))).max_px <= 0.1
    print(f"of 24 random pairs {explained} explained, {closed} closed")
    assert explained >= 22 and closed >= 21


def test_nothing_happened_is_said_so(tmp_path: Path) -> None:
    found = told(shot(), with_habits("zup-rh-m"), "json", tmp_path)
    assert (
        found.explained
        and found.explanations[0].causes == ()
        and "camera meant" in found.explanations[0].sentence
    )
    assert found.deviation_px.max() < 0.01


def test_what_nothing_explains_says_where_it_departs(tmp_path: Path) -> None:
    track = shot()
    place = track.position_m.copy()
    place[30:] += np.linspace(0, 2, 18)[:, None] * [1.0, 0.3, -0.5]
    found = diagnose(
        track, replace(track, position_m=place), IMAGE, "width", with_habits("zup-lh-cm").convention
    )
    assert not found.explained and found.explanations
    assert "px remain, most at frame" in found.explanations[0].sentence
    assert (found.deviation_px[:30] < 1e-6).all() and found.deviation_px[-1] > 10
    # A camera of another shot altogether, and one frame alone, are no reason to fail.
    other = replace(track, position_m=track.position_m[::-1] * 3, rotation=track.rotation[::-1])
    assert not diagnose(track, other, IMAGE, "width", with_habits("yup-rh-m").convention).explained
    assert diagnose(
        track, track.take(np.array([0])), IMAGE, "width", with_habits("yup-rh-m").convention
    ).explanations


def test_a_camera_with_handles_and_a_part_of_it_still_match(tmp_path: Path) -> None:
    track = shot()
    longer = with_handles(track, 4, 4, "extend")
    assert diagnose(longer, track, IMAGE, "width", with_habits("zup-lh-cm").convention).explained
    part = diagnose(track, track.take(np.arange(10, 30)), IMAGE, "width", with_habits("zup-lh-cm").convention)
    assert part.explained and part.explanations[0].frames == ((11.0, 30.0),)
