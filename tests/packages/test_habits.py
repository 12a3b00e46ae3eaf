"""Habits: each one spoils the picture, each one that can be is made up for, and the rest is said."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.proof.proof import prove
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.delivery.deliver import deliver
from anaxis.delivery.proved import Delivered
from anaxis.formats import read_file
from anaxis.formats.file_axes import file_axes
from anaxis.packages import shipped_profiles
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import HABITS
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.standin.package import open_as_package
from conftest import reading_zooms
from test_resample import walk

IMAGE = Image(1920, 1080)
PICTURE = Picture(IMAGE, "width", False, False)
NO_MARKS = np.zeros((1, 0, 3))


def shot(**lens: Any) -> Track:
    source = walk(count=48, first=1.0)
    given = {"focal_mm": source.lens.focal_mm, "film_width_mm": 24.0, "film_height_mm": 13.5, "focus_m": 4.0, **lens}
    roll = Rotation.from_rotvec([0, 0, 0.2]).as_matrix()
    return replace(source, rotation=source.rotation @ roll, lens=make_lens(48, **given))


def with_habits(key: str, *habits: dict[str, Any]) -> Profile:
    document = shipped_profiles()[key].model_dump(mode="json")
    return profile_from_dict({**document, "habits": list(habits)}, "a test")


def spoiled(track: Track, profile: Profile, format_key: str, folder: Path) -> float:
    """How far off the camera is where the file knows nothing of the habits."""
    plain = deliver(track, NO_LANDMARKS, PICTURE, profile.model_copy(update={"habits": ()}), format_key, folder)
    seen = open_as_package(plain.files[0], profile, IMAGE, track.frames)
    return prove(track, projection_of(track, IMAGE, "width"), seen.projection, NO_MARKS).max_px


def made_up_for(track: Track, profile: Profile, format_key: str, folder: Path) -> Delivered:
    return deliver(track, NO_LANDMARKS, PICTURE, profile, format_key, folder)


# Every habit that can be made up for, with parameters that matter to the shot, and a format it shows in.
CURABLE: dict[str, tuple[dict[str, Any], str]] = {
    "up_axis": ({"up": "Y"}, "usd"), "unit": ({"metres_per_unit": 1.0}, "usd"), "world_turn": ({"axis": "X", "angle_deg": -90}, "usd"),
    "world_shift": ({"x": 10, "y": -250, "z": 3.5}, "alembic"), "look_axis": ({"look": "+X", "up": "+Y"}, "usd"),
    "mirror": ({"axis": "Y"}, "json"), "scale": ({"factor": 100}, "collada"), "twice": ({}, "usd"), "frame_offset": ({"frames": 1}, "usd"),
    "own_rate": ({"rate": "30"}, "usd"), "own_first": ({"first": 0}, "usd"), "film_factor": ({"factor": 0.1}, "usd"),
    "film_default": ({"width_mm": 36, "height_mm": 24}, "usd"), "focal_factor": ({"factor": 25.4}, "json"), "vfov_as_hfov": ({}, "usd"),
    "channels": ({"position": "+X-Z+Y", "rotation": "-X+Y+Z"}, "columns"),
    "rotation_order": ({"written": "XYZ", "read": "ZXY"}, "usd"),
}  # fmt: skip
# What cannot be: the sentence that says so.
INCURABLE: dict[str, tuple[dict[str, Any], str]] = {
    "only_first": ({}, "reads only the first frame"),
    "first_keys": ({"count": 20}, "in parts of up to 20 frames"),
    "no_lens_animation": ({}, "key the focal length in the package"),
    "no_offsets": ({}, "type 0.8000 mm right"),
    "no_roll": ({}, "key the roll in the package"),
}


def test_every_habit_is_tested() -> None:
    assert set(CURABLE) | set(INCURABLE) | {"parents", "no_negative", "snap", "still_film"} == set(HABITS)


@pytest.mark.parametrize("code", CURABLE)
@pytest.mark.parametrize("key", ["zup-lh-cm", "yup-rh-m"])
def test_a_habit_spoils_the_picture_and_is_made_up_for(code: str, key: str, tmp_path: Path) -> None:
    params, format_key = CURABLE[code]
    if code == "up_axis":
        params = {"up": "Y" if key.startswith("z") else "Z"}
    elif code == "unit":
        params = {"metres_per_unit": 1.0 if key.endswith("cm") else 0.01}
    profile = with_habits(key, {"code": code, **params})
    track = shot()
    assert spoiled(track, profile, format_key, tmp_path) > 1.0
    done = made_up_for(track, profile, format_key, tmp_path)
    assert done.proof.max_px <= 0.01, done.proof.max_px
    if code == "own_first":
        assert done.seen.frames[0] == 0 and "Frame 1 is frame 0 there" in " ".join(done.outgoing.notes)
    else:
        assert np.allclose(done.seen.frames, track.frames)
        assert f"The package {HABITS[code].says(profile.habits[0].params)}" in " ".join(done.outgoing.notes)


def HABITS_PARAMS(profile: Profile) -> dict[str, Any]:
    return profile.habits[0].params


@pytest.mark.parametrize("code", INCURABLE)
def test_what_cannot_be_made_up_for_is_said(code: str, tmp_path: Path) -> None:
    params, words = INCURABLE[code]
    profile, track = with_habits("zup-lh-cm", {"code": code, **params}), shot(offset_x_mm=0.8)
    done = made_up_for(track, profile, "usd", tmp_path)
    assert done.proof.grade == "off" and words in " ".join(done.outgoing.notes)
    # A camera that the habit does not touch is exact, and nothing is said.
    plain = replace(track.select_frames(np.zeros(1, dtype=np.int64)), rotation=np.eye(3)[None])
    plain = replace(plain, lens=replace(plain.lens, offset_x_mm=np.zeros(1)))
    quiet = made_up_for(plain, profile, "usd", tmp_path)
    assert quiet.proof.max_px <= 0.01 and words not in " ".join(quiet.outgoing.notes)


def test_negative_frames_are_moved_and_sub_frames_said(tmp_path: Path) -> None:
    early = replace(shot(), frames=np.arange(48) - 8.0)  # type: ignore[arg-type]
    profile = with_habits("zup-lh-cm", {"code": "no_negative"})
    done = made_up_for(early, profile, "usd", tmp_path)
    assert done.proof.max_px <= 0.01 and done.seen.frames[0] == 0
    assert "Frame -8 is frame 0 in" in " ".join(done.outgoing.notes)
    halves = replace(shot(), frames=1 + np.arange(48) / 2)
    assert "bake the camera on whole frames" in " ".join(
        made_up_for(halves, with_habits("zup-lh-cm", {"code": "snap"}), "usd", tmp_path).outgoing.notes
    )


@pytest.mark.parametrize("seed", range(12))
def test_several_habits_at_once_are_made_up_for(seed: int, tmp_path: Path) -> None:
    random = np.random.default_rng(seed)
    codes = random.choice(
        [c for c in CURABLE if c not in ("channels", "own_first", "film_default", "rotation_order")], 3, replace=False
    )
    profile = with_habits("zup-lh-cm", *({"code": str(c), **CURABLE[str(c)][0]} for c in codes))
    done = made_up_for(shot(), profile, "usd", tmp_path)
    assert done.proof.max_px <= 0.01, [*codes]


def test_parents_left_out_and_the_top_twice(tmp_path: Path) -> None:
    """A file of somebody else's, with parents: what the package sees of it."""
    path = tmp_path / "rig.usda"
    path.write_text(
        '#usda 1.0\n(upAxis = "Y"\n metersPerUnit = 1\n timeCodesPerSecond = 24\n startTimeCode = 1\n endTimeCode = 2)\n'
        'def Xform "root" { double3 xformOp:translate = (5, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n'
        ' def Camera "cam" { double3 xformOp:translate.timeSamples = { 1: (0, 1, 0), 2: (0, 2, 0) }\n uniform token[] xformOpOrder = ["xformOp:translate"]\n }\n}\n'
    )
    whole = open_as_package(path, with_habits("yup-rh-m"), IMAGE).track.position_m
    alone = open_as_package(path, with_habits("yup-rh-m", {"code": "parents"}), IMAGE).track.position_m
    twice = open_as_package(path, with_habits("yup-rh-m", {"code": "twice"}), IMAGE).track.position_m
    assert whole.tolist() == [[5, 1, 0], [5, 2, 0]]
    assert alone.tolist() == [[0, 1, 0], [0, 2, 0]] and twice.tolist() == [[10, 1, 0], [10, 2, 0]]


@pytest.mark.parametrize(
    ("habit", "said"),
    [
        ({"code": "sulks"}, "is not a habit"),
        ({"code": "scale", "factor": 0}, "cannot be"),
        ({"code": "scale", "factor": "big"}, "is not a number"),
        ({"code": "scale", "factor": 1e10}, "should be less than or equal to 1000000000"),
        ({"code": "frame_offset", "frames": -1e10}, "should be greater than or equal to -1000000000"),
        ({"code": "scale", "angle": 3}, "has no parameter 'angle'"),
        ({"code": "look_axis", "look": "+X", "up": "-X"}, "can look along"),
        ({"code": "channels", "position": "+X+X+Y", "rotation": "+X+Y+Z"}, "which channel goes where"),
        ({"code": "own_rate", "rate": "often"}, "not a frame rate"),
        ({"code": "up_axis", "up": "W"}, "is not a choice"),
    ],
)
def test_a_habit_that_makes_no_sense_is_refused(habit: dict[str, Any], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        with_habits("zup-lh-cm", habit)


@pytest.mark.parametrize("format_key", ["usd", "gltf", "collada"])
@pytest.mark.parametrize(
    "habit",
    [
        {"code": "world_turn", "axis": "X", "angle_deg": -90},
        {"code": "world_shift", "x": 120, "y": -30, "z": 7},
        {"code": "mirror", "axis": "Y"},
        {"code": "scale", "factor": 100},
        {"code": "up_axis", "up": "Y"},
        {"code": "unit", "metres_per_unit": 0.0254},
    ],
)
def test_landmarks_in_the_file_arrive_where_they_are_meant(
    habit: dict[str, Any], format_key: str, tmp_path: Path
) -> None:
    """They go through the same habits as the camera beside them."""
    profile, place = (reading_zooms(with_habits("zup-lh-cm", habit)), np.array([[[3.0, 1.5, -8.0], [-2.0, 0.2, 4.0]]]))
    done = deliver(shot(), Landmarks(("bell", "hub"), place), PICTURE, profile, format_key, tmp_path)
    found = take_camera(read_file(done.files[0]), None).landmarks
    there = found.position_m[0, [found.index("bell"), found.index("hub")]]
    axes = file_axes(format_key, profile.convention)
    walker = shot().select_frames(np.array([0, 1]))  # the landmarks as a camera that is on one, then on the other
    here = Arriving(
        replace(walker, position_m=there), IMAGE, "width", np.zeros((2, 4, 4)), np.zeros((2, 4, 4)), axes.up, axes.unit_m
    )  # fmt: skip
    params = profile.habits[0].params
    seen = HABITS[habit["code"]].arrive(here, params, profile.convention).track.position_m
    assert np.abs(seen - place[0]).max() < (1e-4 if format_key == "gltf" else 1e-9)
    assert done.proof.max_px <= (0.05 if format_key == "gltf" else 0.01)


def test_a_film_back_that_is_read_once_is_made_up_for(tmp_path: Path) -> None:
    """A film back that steps over a cut: spoilt where it is read once, and right again on the first frame's."""
    track, n = shot(), len(shot())
    half = np.arange(n) >= n // 2
    lens = replace(track.lens, film_width_mm=np.where(half, 20.0, 36.0), film_height_mm=np.where(half, 11.25, 20.25))
    stepped = replace(track, lens=lens)
    profile = with_habits("zup-lh-cm", {"code": "still_film"})
    assert spoiled(stepped, profile, "usd", tmp_path) > 100
    done = made_up_for(stepped, profile, "usd", tmp_path)
    assert done.proof.max_px <= 0.01 and np.ptp(done.seen.track.lens.film_width_mm) == 0
    other = replace(track, lens=replace(lens, film_height_mm=np.where(half, 15.0, 20.25)))
    tall = with_habits("yup-rh-cm", {"code": "still_film"})
    assert made_up_for(other, tall, "usd", tmp_path).proof.max_px <= 0.01 or "common film back" in " ".join(
        made_up_for(other, tall, "usd", tmp_path).outgoing.notes
    )
