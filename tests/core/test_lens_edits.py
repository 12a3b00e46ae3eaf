"""Lenses tried and changed: every quantity drives, a part of the plate keeps its pixels, what is sharp, what to type."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pxr import Gf

from anaxis.core.camera.depth_of_field import CIRCLE_SHARE, sharp_m
from anaxis.core.camera.lens import FITS, Image
from anaxis.core.camera.lens_edits import Part, changed_curve, of_part
from anaxis.core.camera.lens_trial import DRIVERS, KEEPS, Trial, driven, pixels_between, trial_at, with_film, with_fit
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import make_outgoing
from anaxis.core.recipe.model import Operation
from anaxis.core.recipe.replay import replay
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.delivery.ready import prepare
from anaxis.formats import read_file
from anaxis.packages import shipped_profiles
from anaxis.packages.model import LensRule, profile_from_dict
from anaxis.packages.sheet import sheet_of
from shell import run
from test_lens_and_projection import track

IMAGE = Image(1920, 1080)
SIZES = st.floats(4, 70)


@given(
    SIZES,
    SIZES,
    st.floats(8, 300),
    st.sampled_from(FITS),
    st.sampled_from([1.0, 1.33, 2.0]),
    st.sampled_from(DRIVERS),
    st.floats(0.2, 3.0),
)
def test_whatever_drives_has_its_value_and_the_others_follow(
    wide: float, high: float, focal: float, fit: str, squeeze: float, driver: str, factor: float
) -> None:
    trial = Trial(wide, high, focal, 0.4, -0.2, squeeze, IMAGE, fit)
    everything = {**trial.equivalents._asdict(), "focal_mm": trial.focal_mm}
    wanted = float(everything[driver]) * factor
    if driver.endswith("_deg"):
        wanted = min(wanted, 170.0)
    made = driven(trial, driver, wanted)
    assert {**made.equivalents._asdict(), "focal_mm": made.focal_mm}[driver] == pytest.approx(wanted, rel=1e-9)
    assert (made.film_width_mm, made.offset_x_mm, made.fit) == (wide, 0.4, fit)
    # Against the library's own frustum: the same window gives the same angle.
    frustum = Gf.Frustum(
        Gf.Vec3d(0), Gf.Rotation(), Gf.Range2d(*_window(made)), Gf.Range1d(1, 10), Gf.Frustum.Perspective
    )
    left, right = frustum.GetWindow().GetMin()[0], frustum.GetWindow().GetMax()[0]
    assert np.degrees(2 * np.arctan((right - left) / 2)) == pytest.approx(float(made.equivalents.hfov_deg), rel=1e-9)


def _window(trial: Trial) -> tuple[Gf.Vec2d, Gf.Vec2d]:
    half = np.array([float(trial.used.width_mm), float(trial.used.height_mm)]) / 2 / trial.focal_mm
    return Gf.Vec2d(*-half), Gf.Vec2d(*half)


@given(SIZES, SIZES, st.sampled_from(FITS), st.sampled_from(FITS))
def test_a_new_film_back_or_fit_keeps_what_was_asked(wide: float, high: float, fit: str, other: str) -> None:
    trial = Trial(24.89, 18.66, 32.0, 0, 0, 1, IMAGE, fit)
    assert with_film(trial, wide, high, KEEPS[0]).focal_mm == with_fit(trial, other, KEEPS[0]).focal_mm == 32.0
    for made in (with_film(trial, wide, high, KEEPS[1]), with_fit(trial, other, KEEPS[1])):
        assert float(made.equivalents.hfov_deg) == pytest.approx(float(trial.equivalents.hfov_deg), rel=1e-12)
    with pytest.raises(BadInput, match="'nothing' cannot be kept"):
        with_fit(trial, other, "nothing")


def test_pixels_of_a_lens_tried_are_those_of_the_camera_with_it() -> None:
    source = track(6, offset_x_mm=0.3)
    before = trial_at(source, 2, IMAGE, "height")
    after = replace(
        driven(with_film(before, 20, 12, KEEPS[0]), "hfov_deg", 61.0), offset_y_mm=1.5, fit="inside", squeeze=1.3
    )
    lens = make_lens(
        6, focal_mm=after.focal_mm, film_width_mm=20, film_height_mm=12, offset_x_mm=0.3, offset_y_mm=1.5, squeeze=1.3
    )
    wanted = projection_of(replace(source, lens=lens), IMAGE, "inside").matrices[2]
    got = pixels_between(before, after) @ projection_of(source, IMAGE, "height").matrices[2]
    assert np.allclose(got, wanted, rtol=1e-12, atol=1e-9)


@given(
    st.sampled_from(FITS),
    st.floats(-600, 900),
    st.floats(-300, 500),
    st.integers(200, 4000),
    st.integers(200, 4000),
    st.sampled_from([1.0, 2.0]),
    st.sampled_from(FITS),
)
def test_a_part_of_the_plate_keeps_every_pixel(
    fit: str, x: float, y: float, wide: int, high: int, squeeze: float, receiver: str
) -> None:
    """Also where the part is larger than the plate, and whatever the fit of whoever gets it."""
    source = track(3, squeeze=squeeze, offset_x_mm=0.7, film_width_mm=24.0, film_height_mm=16.0)
    plate = Image(1828, 1332, 1.0)
    part = Part(x, y, wide, high)
    cut = of_part(source, plate, fit, part)
    pixels = np.array([[0.0, 0], [900, 400], [1828, 1332], [3000, -200]])
    points = projection_of(source, plate, fit).unproject(pixels, np.full((3, 4), 7.0))
    seen, _ = projection_of(cut, part.image(1.0), receiver).project(points)
    # Of a plate stretched over its film back no fit but "stretch" shows the oblong pixels.
    if fit != "stretch" or receiver == "stretch":
        assert np.allclose(seen, pixels - [x, y], atol=1e-6)
    assert np.allclose(projection_of(cut, part.image(1.0), "stretch").project(points)[0], pixels - [x, y], atol=1e-6)


def test_curves_are_set_scaled_moved_and_held() -> None:
    source = track(10)
    focal = source.lens.focal_mm
    assert changed_curve(source, "focal_mm", "times", 2.0).lens.focal_mm == pytest.approx(focal * 2)
    part = changed_curve(source, "offset_x_mm", "plus", 0.5, 3, 4).lens.offset_x_mm
    assert part.tolist() == [0, 0, 0.5, 0.5, 0, 0, 0, 0, 0, 0]
    held = changed_curve(source, "focal_mm", "hold outside", None, 4, 6).lens.focal_mm
    assert held[:3] == pytest.approx(focal[3]) and held[3:6] == pytest.approx(focal[3:6])
    assert held[6:] == pytest.approx(focal[5])
    assert changed_curve(source, "fstop", "set to", 4.0, 2, 2).lens.fstop[1] == 4.0
    for channel, way, value, first, said in (
        ("fstop", "times", 2.0, 1, "does not state the stop"),
        ("focal_mm", "set to", 0.0, 1, "above zero"),
        ("focal_mm", "set to", None, 1, "needs a number"),
        ("focal_mm", "set to", 30.0, 99, "no frames between"),
        ("focal_mm", "bend", 30.0, 1, "not a way to change"),
        ("offset_y_mm", "plus", 1e12, 1, "cannot be"),
    ):
        with pytest.raises(BadInput, match=said):
            changed_curve(source, channel, way, value, first)


def test_what_is_sharp_is_what_blurs_by_the_circle() -> None:
    """The blur of a point at distance d with the lens focused at s: f^2 |d - s| / (N d (s - f)), thin lens."""
    source = track(5, focal_mm=np.array([24, 35, 50, 85, 135.0]), fstop=2.8, focus_m=np.array([2, 4, 3, 8, 12.0]))
    used = source.lens.used(IMAGE, "width")
    circle_m = np.hypot(used.width_mm, used.height_mm) * CIRCLE_SHARE / 1000
    f, s = source.lens.focal_mm / 1000, source.lens.focus_m
    for limit in sharp_m(source, used).T:
        blur = f * f * np.abs(limit - s) / (2.8 * limit * (s - f))
        assert np.allclose(blur, circle_m, rtol=1e-9)
    wide = sharp_m(
        track(1, focal_mm=12.0, fstop=16.0, focus_m=5.0), used.__class__(used.width_mm[:1], used.height_mm[:1])
    )
    assert np.isinf(wide[0, 1]) and wide[0, 0] < 1
    assert np.isnan(sharp_m(track(2), track(2).lens.used(IMAGE, "width"))).all()  # no stop, no limits


def test_the_sheet_is_in_the_packages_unit_and_sign() -> None:
    source = track(
        9, offset_x_mm=1.2, offset_y_mm=-0.6, film_width_mm=24.0, film_height_mm=13.5, focal_mm=30.0, fstop=4.0
    )
    document = shipped_profiles()["yup-rh-cm"].model_dump(mode="json")
    rules: tuple[tuple[LensRule, tuple[str, str]], ...] = (
        (LensRule(film_unit="in", fit="inside"), ("0.04724", "-0.02362")),
        (LensRule(offset_unit="width_share", offset_signs=(-1, 1)), ("-0.05000", "-0.02500")),
        (LensRule(offset_unit="side_share", offset_signs=(1, -1)), ("0.05000", "0.04444")),
    )
    for rule, (x, y) in rules:
        profile = profile_from_dict({**document, "lens": rule.model_dump()}, "a test")
        sheet = sheet_of(prepare(source, NO_LANDMARKS, Picture(IMAGE, "width", False, False), profile), profile)
        said = {e.label: e for e in sheet.entries}
        assert (said["Offset x"].values, said["Offset y"].values) == ((x,), (y,))
        assert ("left" in said["Offset x"].note) == (rule.offset_signs[0] < 0)
        assert said["Focus distance"].values == ("600.0000",) and said["Focus distance"].unit == "cm"
        assert said["Film back width"].values == (f"{24 * profile.film_scale:.4f}",)
        assert not any(e.animated for e in sheet.entries) and said["Stop"].values == ("4.00",)
    moving = sheet_of(make_outgoing(track(9), profile.convention, IMAGE, "width", "width", NO_LANDMARKS), profile)
    assert moving.frames == ("1", "5", "9")
    assert [float(v) for v in moving.entries[5].values] == pytest.approx(track(9).lens.focal_mm[[0, 4, 8]], abs=1e-4)


def test_a_part_in_a_recipe_changes_the_picture_with_it(demo_files: dict[str, Path], tmp_path: Path) -> None:
    recipe = [
        {
            "code": "part",
            "params": {
                "plate_width_px": 1920, "plate_height_px": 1080, "pixel_aspect": 1, "fit": "width", "x_px": 480,
                "y_px": 270, "width_px": 960, "height_px": 540,
            },
        }
    ]  # fmt: skip
    path = tmp_path / "half.json"
    path.write_text(json.dumps(recipe))
    done = run("values", demo_files["TW_020"], "--to", "zup-lh-cm", "--recipe", path, "--frames", "1", "--json")
    said = json.loads(done.stdout)
    assert said["resolution"] == [960, 540]
    whole = json.loads(run("values", demo_files["TW_020"], "--to", "zup-lh-cm", "--frames", "1", "--json").stdout)
    half, full = said["frames"][0], whole["frames"][0]
    assert half["film_width_mm"] == pytest.approx(full["film_width_mm"] / 2)
    assert half["zoom_px"] == pytest.approx(full["zoom_px"])
    scene = read_file(demo_files["TW_020"])
    for wrong in ({"width_px": 0}, {"width_px": 10.5}, {"fit": "sideways"}, {"x_px": 1e300}, {"plate_width_px": -1}):
        with pytest.raises(BadInput):
            replay(scene, scene.cameras[0].path, (Operation("part", recipe[0]["params"] | wrong),))  # type: ignore[operator]


def test_a_rate_of_a_track_is_said_as_it_is(tmp_path: Path) -> None:
    slow = replace(track(3), rate=Fraction(24000, 1001))
    profile = shipped_profiles()["zup-rh-m"]
    entries = sheet_of(make_outgoing(slow, profile.convention, IMAGE, "width", "width", NO_LANDMARKS), profile).entries
    rate = next(e for e in entries if e.label == "Rate, frames/s")
    assert rate.values == ("23.976",) and "24000/1001" in rate.note
    assert isinstance(slow, Track)


@pytest.mark.parametrize("fit", ["width", "height"])
def test_a_film_back_that_keeps_the_view_moves_the_focal_length_with_it(demo_files: dict[str, Path], fit: str) -> None:
    scene = replace(read_file(demo_files["TW_020"]), source_fit=fit)
    before = replay(scene, scene.cameras[0].path, ()).done.lens
    given = {
        "width_mm": before.film_width_mm[0] * 2.5,
        "height_mm": before.film_height_mm[0] * 0.6,
        "keep": "field of view",
    }
    after = replay(scene, scene.cameras[0].path, (Operation("film_back", given),)).done.lens
    angle = "film_width_mm" if fit == "width" else "film_height_mm"
    assert np.allclose(getattr(after, angle) / after.focal_mm, getattr(before, angle) / before.focal_mm, rtol=1e-12)
    assert (after.film_width_mm == given["width_mm"]).all() and (after.film_height_mm == given["height_mm"]).all()
