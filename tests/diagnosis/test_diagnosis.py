"""Diagnosis: every habit alone, random pairs, combinations with time, and what nothing explains."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.motion.resample import sampled, sampled_straight, with_handles
from anaxis.core.proof.proof import prove
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.delivery.deliver import deliver
from anaxis.diagnosis.case import Case
from anaxis.diagnosis.diagnose import EXPLAINED_PX, Diagnosis, diagnose
from anaxis.packages.habits import HABITS
from anaxis.packages.model import Profile
from anaxis.standin.package import open_as_package
from lanes import sized
from test_habits import CURABLE, IMAGE, INCURABLE, PICTURE, shot, with_habits
from test_resample import walk

# Habits that say the same of one camera: whichever is named, undoing it closes the proof.
SAME = {
    "up_axis": {"world_turn"},
    "unit": {"scale"},
    "own_first": {"own_first", "frame_offset"},
    "frame_offset": {"own_first", "frame_offset"},
}


def arrival(track: Track, profile: Profile, format_key: str, folder: Path) -> Track:
    """What a package with habits makes of a file that knows nothing of them."""
    plain = deliver(track, NO_LANDMARKS, PICTURE, profile.model_copy(update={"habits": ()}), format_key, folder)
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
    assert first.residual_px <= EXPLAINED_PX and first.sentence.endswith("remain.") and "package" in first.sentence
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
def test_a_horizon_levelled_after_something_else_is_told_from_it(first: dict[str, Any], tmp_path: Path) -> None:
    profile, track = with_habits("zup-lh-cm", first, {"code": "no_roll"}), shot()
    found = told(track, profile, "usd", tmp_path)
    assert found.explained, found.explanations[0].sentence
    codes = [c for c, _ in found.explanations[0].causes]
    assert codes[-1] == "no_roll" and first["code"] in (codes[0], "twice"), codes


def test_random_pairs_are_found_and_undoing_them_closes_the_proof(tmp_path: Path) -> None:
    """Pairs drawn at random; the causes found are made habits, and what is sent by them is exact."""
    random = np.random.default_rng(11)
    codes = [c for c in CURABLE if c not in ("channels", "own_first", "film_default", "rotation_order")]
    track, explained, closed = shot(offset_y_mm=0.4), 0, 0
    pairs = sized(24, 6)
    for _ in range(pairs):
        pair = [habit(str(c))[0] for c in random.choice(codes, 2, replace=False)]
        profile = with_habits("zup-lh-cm", *pair)
        found = told(track, profile, "usd", tmp_path)
        explained += found.explained
        if found.explained:
            learned = with_habits("zup-lh-cm", *({"code": c, **p} for c, p in found.explanations[0].causes))
            sent = deliver(track, NO_LANDMARKS, PICTURE, learned, "usd", tmp_path)
            seen = open_as_package(sent.files[0], profile, IMAGE, sent.seen.frames, track.rate)
            closed += (
                prove(track, projection_of(track, IMAGE, "width"), seen.projection, np.zeros((1, 0, 3))).max_px <= 0.1
            )
    print(f"of {pairs} random pairs {explained} explained, {closed} closed")
    assert explained >= pairs - 2 and closed >= pairs - 3


def test_nothing_happened_is_said_so(tmp_path: Path) -> None:
    found = told(shot(), with_habits("zup-rh-m"), "json", tmp_path)
    assert (
        found.explained and found.explanations[0].causes == () and "expected camera" in found.explanations[0].sentence
    )
    assert found.deviation_px.max() < 0.01


def test_what_nothing_explains_says_where_it_departs(tmp_path: Path) -> None:
    track = shot()
    place = track.position_m.copy()
    place[30:] += np.linspace(0, 2, 18)[:, None] * [1.0, 0.3, -0.5]
    found = diagnose(track, replace(track, position_m=place), IMAGE, "width", with_habits("zup-lh-cm").convention)
    assert not found.explained and found.explanations
    assert "px remain, most at frame" in found.explanations[0].sentence
    assert (found.deviation_px[:30] < 1e-6).all() and found.deviation_px[-1] > 10
    # A camera of another shot altogether, and one frame alone, are no reason to fail.
    other = replace(track, position_m=track.position_m[::-1] * 3, rotation=track.rotation[::-1])
    assert not diagnose(track, other, IMAGE, "width", with_habits("yup-rh-m").convention).explained
    assert diagnose(
        track, track.select_frames(np.array([0])), IMAGE, "width", with_habits("yup-rh-m").convention
    ).explanations


def test_a_camera_with_handles_and_a_part_of_it_still_match(tmp_path: Path) -> None:
    track = shot()
    longer = with_handles(track, 4, 4, "extend")
    assert diagnose(longer, track, IMAGE, "width", with_habits("zup-lh-cm").convention).explained
    part = diagnose(track, track.select_frames(np.arange(10, 30)), IMAGE, "width", with_habits("zup-lh-cm").convention)
    assert part.explained and part.explanations[0].frames == ((11.0, 30.0),)


def outside(track: Track, rng: np.random.Generator, kind: int) -> Track:
    """Something that happened and is on no list of habits: no two frames of it are wrong in one way."""
    n, place, turn, lens = len(track), track.position_m.copy(), track.rotation.copy(), track.lens
    t = np.linspace(0, 1, n)

    def turned(degrees: np.ndarray) -> np.ndarray:
        return np.asarray(Rotation.from_rotvec(np.radians(degrees)).as_matrix()) @ turn

    if kind == 0:  # hand-held shake that nobody asked for
        turn = turned(rng.normal(size=(n, 3)) * rng.uniform(0.08, 1.0))
    elif kind == 1:  # a drift that grows
        place = place + np.outer(t**2, rng.normal(size=3) * rng.uniform(0.3, 3))
    elif kind == 2:  # a pan that is another one
        turn = turned(np.outer(np.sin(3 * t + rng.uniform(0, 3)), rng.normal(size=3) * rng.uniform(2, 10)))
    elif kind == 3:  # a zoom that is another one
        lens = replace(lens, focal_mm=lens.focal_mm * (1 + rng.uniform(0.05, 0.5) * t**2 + 0.03))
    elif kind == 4:  # half of it moved
        place[n // 2 :] += rng.normal(size=3) * rng.uniform(0.2, 2)
    elif kind == 5:  # eased in time
        at = track.frames[0] + (track.frames[-1] - track.frames[0]) * (t + 0.15 * np.sin(np.pi * t))
        moved = sampled(track, at)
        place, turn, lens = moved.position_m, moved.rotation, moved.lens
    elif kind == 6:  # another camera
        place, turn = place[::-1] * rng.uniform(0.5, 2, 3), turn[::-1]
    else:  # squashed along one axis
        place = place * np.array([1.0, rng.uniform(0.3, 0.8), 1.0])
        turn = turned(np.outer(t, rng.normal(size=3) * 4))
    return replace(track, position_m=place, rotation=turn, lens=lens)


@pytest.mark.parametrize("kind", range(8))
def test_what_is_on_no_list_is_never_explained(kind: int) -> None:
    """0 of 400 over lengths 3 to 300 and first frames 1, 101, 1001; a share of them in the short lane."""
    rng = np.random.default_rng(5 + kind)
    convention = with_habits("zup-lh-cm").convention
    wrong = []
    for _ in range(sized(50, 1)):
        count, first = int(rng.choice([3, 4, 8, 24, 100, 252])), float(rng.choice([1, 101, 1001]))
        track = walk(count=count, first=first)
        found = diagnose(track, outside(track, rng, kind), IMAGE, "width", convention)
        if found.explained:
            wrong.append((count, first, found.explanations[0].sentence))
    assert wrong == []


@pytest.mark.parametrize("read", ["XZY", "YXZ", "YZX", "ZXY", "ZYX"])
def test_a_wrong_rotation_order_is_named(read: str, tmp_path: Path) -> None:
    profile, track = (with_habits("zup-lh-cm", {"code": "rotation_order", "written": "XYZ", "read": read}), shot())
    found = told(track, profile, "usd", tmp_path)
    assert found.explained and found.explanations[0].causes == (("rotation_order", {"written": "XYZ", "read": read}),)
    assert read in found.explanations[0].sentence and read[::-1] in found.explanations[0].sentence


def test_the_top_transform_twice_is_named_where_the_source_has_a_parent() -> None:
    track = shot()
    parent_turn = Rotation.from_euler("yxz", [40, 10, -5], degrees=True).as_matrix()
    parent_place = np.array([3.0, 0.5, -2.0])
    bare = replace(
        track, position_m=(track.position_m - parent_place) @ parent_turn, rotation=parent_turn.T @ track.rotation
    )
    twice = replace(
        track, position_m=track.position_m @ parent_turn.T + parent_place, rotation=parent_turn @ track.rotation
    )
    found = diagnose(track, twice, IMAGE, "width", with_habits("zup-lh-cm").convention, (bare,))
    assert found.explained and [c for c, _ in found.explanations[0].causes] == ["twice"], found.explanations[0].sentence


@pytest.mark.parametrize("rate", ["30", "25", "48"])
def test_a_rate_change_drawn_with_straight_lines_is_named(rate: str) -> None:
    track = walk(count=96)
    frames = np.arange(1001 * float(Fraction(rate)) / 24, (1001 + 95) * float(Fraction(rate)) / 24)
    whole = np.ceil(frames)
    source = whole * 24 / float(Fraction(rate))
    inside = source <= track.frames[-1]
    arrived = replace(sampled_straight(track, source[inside]), frames=whole[inside], rate=Fraction(rate))
    found = diagnose(track, arrived, IMAGE, "width", with_habits("zup-lh-cm").convention)
    first = found.explanations[0]
    assert found.explained and first.causes[0] == ("own_rate", {"rate": f"{rate}/1"}), first.sentence
    assert "linear interpolation" in first.sentence and "from" in first.sentence


@pytest.mark.parametrize(
    "habit",
    [
        {"code": "world_turn", "axis": "X", "angle_deg": -90.0},
        {"code": "scale", "factor": 100.0},
        {"code": "look_axis", "look": "+X", "up": "+Y"},
    ],
)
@pytest.mark.parametrize("noise_m", [1e-4, 3e-5])
def test_noise_defeats_no_cause_and_is_none(habit: dict[str, Any], noise_m: float) -> None:
    track, profile = shot(), with_habits("zup-lh-cm", habit)
    noise = np.random.default_rng(8).normal(size=track.position_m.shape) * noise_m
    if habit["code"] == "scale":
        noise *= 30  # in a world that much larger
    here = (
        HABITS[habit["code"]]
        .arrive(
            Case(track, track, IMAGE, "width", profile.convention).arriving(track),
            profile.habits[0].params,
            profile.convention,
        )
        .track
    )
    found = diagnose(track, replace(here, position_m=here.position_m + noise), IMAGE, "width", profile.convention)
    assert found.explained and [c for c, _ in found.explanations[0].causes] == [habit["code"]], found.explanations[
        0
    ].sentence
    assert "noise" in found.explanations[0].sentence or found.explanations[0].residual_px <= EXPLAINED_PX


@pytest.mark.parametrize("decimals", [2, 3, 4])
def test_printed_decimals_defeat_no_cause_and_are_said(decimals: int) -> None:
    """Typed from a package's own display, in its own unit."""
    for habit in ({"code": "world_turn", "axis": "Z", "angle_deg": 90.0}, {"code": "scale", "factor": 0.01}, None):
        profile = with_habits("zup-rh-m", *([habit] if habit else []))
        track, convention = walk(count=48), profile.convention
        here = Case(track, track, IMAGE, "width", convention).arriving(track)
        done = HABITS[habit["code"]].arrive(here, profile.habits[0].params, convention).track if habit else track  # type: ignore[index]
        place = np.round(convention.position_from_canonical(done.position_m), decimals)
        angles = np.round(angles_from_matrices(convention.rotation_from_canonical(done.rotation), "XYZ").deg, decimals)
        if habit and habit["code"] == "scale" and decimals < 4:
            continue  # a hundredth of a metre in two decimals says nothing of a move
        typed = replace(
            done,
            position_m=convention.position_to_canonical(place),
            rotation=convention.rotation_to_canonical(matrices_from_angles(angles, "XYZ")),
        )
        found = diagnose(track, typed, IMAGE, "width", convention)
        assert found.explained and [c for c, _ in found.explanations[0].causes] == ([habit["code"]] if habit else []), (
            found.explanations[0].sentence
        )
        if found.explanations[0].residual_px > EXPLAINED_PX:
            said = f"{decimals} decimals tell" if habit else f"rounded to {decimals} decimals"
            assert said in found.explanations[0].sentence


def test_of_three_frames_nothing_is_fitted() -> None:
    track, convention = walk(count=100), with_habits("zup-lh-cm").convention
    three = track.select_frames(np.array([0, 50, 99]))
    same = diagnose(track, three, IMAGE, "width", convention)
    assert same.explained and same.explanations[0].causes == () and "from 3 frames" in same.explanations[0].sentence
    moved = replace(three, position_m=three.position_m + np.array([0.123, 0.4, -0.2]))
    assert not diagnose(track, moved, IMAGE, "width", convention).explained
    turned = Case(track, three, IMAGE, "width", convention)
    here = HABITS["world_turn"].arrive(turned.arriving(three), {"axis": "X", "angle_deg": -90.0}, convention).track
    assert diagnose(track, here, IMAGE, "width", convention).explained


def test_a_place_of_whole_numbers_is_as_exact_as_it_looks() -> None:
    """Rounded numbers leave half a step open; a camera that somebody stood at (1, 2, 3) is not a rounded one."""
    convention = with_habits("zup-rh-m").convention
    still = replace(
        walk(count=48), position_m=np.tile([1.0, 2.0, 3.0], (48, 1)), rotation=np.tile(np.eye(3), (48, 1, 1))
    )
    moved = replace(still, position_m=still.position_m + np.array([0.0, 1.0, 0.0]))
    found = diagnose(replace(still, position_m=still.position_m + 0.3), moved, IMAGE, "width", convention)
    assert "match the expected camera" not in found.explanations[0].sentence and found.deviation_px.max() > 100
    # Two primes of 35 and 85 mm are none either.
    track = walk(count=48)
    swapped = replace(track, lens=replace(track.lens, focal_mm=np.where(np.arange(48) < 20, 35.0, 85.0)))
    short = replace(swapped, lens=replace(swapped.lens, focal_mm=np.where(np.arange(48) < 20, 35.0, 85.4)))
    rounded = replace(swapped, position_m=np.round(swapped.position_m, 3))
    assert diagnose(swapped, rounded, IMAGE, "width", convention).explained
    assert not diagnose(short, rounded, IMAGE, "width", convention).explained


def test_noise_is_measured_by_the_size_of_the_world_it_is_seen_in() -> None:
    """A hundred times larger, a hundredth of a unit is a tenth of a millimetre, also with a lens of 85 mm."""
    track = walk(count=120, first=86400)
    track = replace(track, lens=replace(track.lens, focal_mm=np.full(120, 85.0), film_width_mm=np.full(120, 13.3)))
    noise = np.random.default_rng(3).normal(size=track.position_m.shape) * 1e-2
    grown = replace(track, position_m=track.position_m * 100 + noise)
    found = diagnose(track, grown, IMAGE, "width", with_habits("yup-rh-m").convention)
    assert found.explained and [c for c, _ in found.explanations[0].causes] == ["scale"], found.explanations
    assert "noise" in found.explanations[0].sentence and found.explanations[0].residual_px < 5
