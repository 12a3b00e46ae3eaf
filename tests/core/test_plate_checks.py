"""Findings of a plate behind a camera: each fault made, found, and nothing said where there is none."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.checks.plates import CheckedPlate, PlateContext, check_plate, ranges
from anaxis.core.recipe.operations.distortion import distorted
from ordinary import SHOTS, track_of

SHOT = SHOTS["held"]()
TRACK = distorted(track_of(SHOT), {"model": "division", "k": -0.05})
FIRST, LAST = int(SHOT.frames[0]), int(SHOT.frames[-1])
IMAGE = Image(1920, 1080)
GOOD = CheckedPlate("bg", "as shot", IMAGE, (0, 0, 1920, 1080), tuple(range(FIRST, LAST + 1)))


def codes(plate: CheckedPlate, track: Any = TRACK, image: Image = IMAGE) -> dict[str, Any]:
    return {f.code: f for f in check_plate(PlateContext(plate, track, image))}


def test_a_plate_that_belongs_has_none() -> None:
    assert codes(GOOD) == {}
    assert codes(replace(GOOD, numbers=tuple(range(1, len(SHOT.frames) + 1)), offset=FIRST - 1)) == {}


@pytest.mark.parametrize(
    ("changed", "code"),
    [
        ({"numbers": tuple(range(1, len(SHOT.frames) + 1))}, "plate_other_frames"),
        ({"numbers": tuple(range(FIRST, LAST - 9))}, "plate_too_short"),
        ({"missing": (FIRST + 4, FIRST + 5)}, "plate_frames_missing"),
        ({"doubled": (FIRST + 1,)}, "plate_frames_doubled"),
        ({"broken": {FIRST + 2: "bg.exr breaks off."}}, "plate_frames_broken"),
        ({"sizes": {FIRST + 3: (960, 540)}}, "plate_sizes_change"),
        ({"image": Image(3840, 2160), "data_px": (0, 0, 3840, 2160)}, "plate_other_size"),
        ({"image": Image(2048, 858), "data_px": (0, 0, 2048, 858)}, "plate_other_shape"),
        ({"image": Image(1920, 1080, 2.0)}, "plate_pixel_aspect"),
        ({"data_px": (100, 0, 1820, 1080)}, "plate_data_window"),
        ({"data_px": (-20, -20, 1960, 1120)}, "plate_data_beyond"),
        ({"kind": "undistorted"}, "camera_of_the_plate_as_shot"),
        ({"kind": "undistorted", "image": Image(2010, 1132), "data_px": (0, 0, 2010, 1132)}, "plate_is_overscan"),
        ({"rate": Fraction(25)}, "plate_other_rate"),
    ],
)
def test_each_fault_is_found(changed: dict[str, Any], code: str) -> None:
    found = codes(replace(GOOD, **changed))
    assert code in found
    assert (
        found[code].remedy and found[code].why and "bg" in found[code].message
    ) or code == "camera_of_the_plate_as_shot"


def test_the_offset_that_would_fit_is_named() -> None:
    found = codes(replace(GOOD, numbers=tuple(range(1, len(SHOT.frames) + 1))))["plate_other_frames"]
    assert f"{FIRST - 1:+d}" in found.remedy and found.severity == "error"


def test_a_plate_as_shot_without_a_distortion_is_noted() -> None:
    assert "plate_needs_distortion" in codes(GOOD, replace(TRACK, distortion=None))


def test_numbers_are_written_as_ranges() -> None:
    assert ranges([5, 3, 4, 9]) == "3 to 5, 9" and ranges(list(range(0, 60, 2))).endswith("and 22 more")
