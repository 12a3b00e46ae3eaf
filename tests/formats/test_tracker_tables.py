"""Tables as phones and trackers write them: clocks in any unit with jitter, quaternions, lenses in pixels; with headings or none."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.picture import picture_of
from anaxis.delivery.deliver import deliver_all
from anaxis.formats import read_file
from anaxis.packages import find_profile
from anaxis.packages.model import ColumnRule, TableRule
from ordinary import SHOTS
from test_ordinary_shots import leaving

FX, CX, CY = 1450.0, 958.7, 722.4


def walk(
    count: int = 600, hertz: float = 60.0, begins_s: float = 81_234.5171
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Times with 0.4 ms of jitter, places and quaternions of somebody who walks."""
    random = np.random.default_rng(4)
    seconds = begins_s + np.arange(count) / hertz + random.normal(0, 4e-4, count)
    t = seconds - begins_s
    place = np.stack([0.8 * t, 1.6 + 0.02 * np.sin(9 * t), 0.3 * np.sin(t)], axis=1)
    turn = Rotation.from_euler("YX", np.stack([20 * np.sin(0.5 * t), 4 * np.cos(t)], axis=1), degrees=True).as_quat()
    return seconds, place, turn


def log(path: Path, unit: str = "s", headings: bool = True, lens: bool = True) -> Path:
    seconds, place, turn = walk()
    factor = {"s": 1.0, "ms": 1e3, "us": 1e6, "ns": 1e9}[unit]
    times = [
        f"{v:.6f}" if unit == "s" else f"{v:.0f}" if unit in ("us", "ns") else f"{v:.3f}" for v in seconds * factor
    ]
    names = [f"timestamp{'' if unit == 's' else '_' + unit}", "tx", "ty", "tz", "qx", "qy", "qz", "qw"]
    rows = [[time, *(f"{v:.7f}" for v in (*p, *q))] for time, p, q in zip(times, place, turn, strict=True)]
    if lens:
        names += ["fx", "fy", "cx", "cy"]
        rows = [[*r, f"{FX}", f"{FX}", f"{CX}", f"{CY}"] for r in rows]
    path.write_text("\n".join(",".join(r) for r in ([names, *rows] if headings else rows)) + "\n")
    return path


@pytest.mark.parametrize("unit", ["s", "ms", "us", "ns"])
def test_a_phones_log_is_read_at_its_own_rate_from_frame_0(unit: str, tmp_path: Path) -> None:
    scene = read_file(log(tmp_path / "walk.csv", unit))
    assert scene.rate == Fraction(60) and (scene.first_frame, round(scene.last_frame)) == (0.0, 599)
    assert {"rate", "frames", "columns"} <= set(scene.guesses), "each is said to be a guess"
    _, place, turn = walk()
    baked = bake_camera(scene, scene.cameras[0].path, np.arange(0.0, 599)).track
    assert np.abs(baked.position_m - place[:599]).max() < 0.02
    between = Rotation.from_matrix(baked.rotation) * Rotation.from_quat(turn[:599]).inv()
    assert np.degrees(between.magnitude()).max() < 0.2


def test_a_lens_in_pixels_shows_the_phones_own_picture(tmp_path: Path) -> None:
    scene = read_file(log(tmp_path / "walk.csv"))
    picture, lens = picture_of(scene, None, None), scene.cameras[0].lens
    assert lens is not None and (picture.image.width_px, picture.image.height_px) == (1920, 1440)
    used = lens.used(picture.image, picture.fit)
    assert used.width_mm[0] / lens.focal_mm[0] == pytest.approx(1920 / FX, rel=1e-9)
    # Where the camera's own axis is seen, by its film back's offsets: the principal point.
    assert 1920 * (0.5 - lens.offset_x_mm[0] / used.width_mm[0]) == pytest.approx(CX)
    assert 1440 * (0.5 + lens.offset_y_mm[0] / used.height_mm[0]) == pytest.approx(CY)
    assert any("1920 x 1440 px, from the principal point" in why for why in scene.guesses.values())


@pytest.mark.parametrize("unit", ["s", "ms", "ns"])
def test_without_headings_the_clock_is_told_from_a_place(unit: str, tmp_path: Path) -> None:
    scene = read_file(log(tmp_path / "walk.txt", unit, headings=False, lens=False))
    assert scene.columns is not None
    told = [c["quantity"] for c in scene.columns["layout"]["columns"]]
    assert told == ["seconds", "position_x", "position_y", "position_z", *(f"quaternion_{a}" for a in "xyzw")]
    assert scene.rate == Fraction(60) and scene.first_frame == 0.0


@pytest.mark.parametrize(("begins", "step"), [(-60.0, 0.5), (0.0, 0.5), (-60.0, 1 / 24), (3.0, 1 / 25)])
@pytest.mark.parametrize("focal", [False, True])
def test_a_dolly_that_rises_evenly_is_no_clock(begins: float, step: float, focal: bool, tmp_path: Path) -> None:
    rows = [
        [f"{begins + step * i:.6f}", "1.6", "4.0", "-5.0", f"{10 + 0.1 * i:.3f}", "0.0", *(["35"] if focal else [])]
        for i in range(48)
    ]
    path = tmp_path / "dolly.txt"
    path.write_text("\n".join(" ".join(r) for r in rows) + "\n")
    scene = read_file(path)
    assert scene.columns is not None
    told = [c["quantity"] for c in scene.columns["layout"]["columns"]]
    if begins >= 0 and step < 0.1 and focal:
        assert "columns" in scene.guesses, "either may be: seven numbers of which the first steps by a usual rate"
    else:
        assert told[:3] == ["position_x", "position_y", "position_z"], told


def test_a_package_with_that_layout_is_handed_its_own_columns(tmp_path: Path) -> None:
    """Written in the columns it was learned from, proved by the stand-in's own arithmetic."""
    names = ["frame", *(f"position_{a}" for a in "xyz"), *(f"quaternion_{a}" for a in "xyzw"), "pixel_focal_x", "pixel_focal_y",
             "pixel_centre_x", "pixel_centre_y", "film_width", "film_height"]  # fmt: skip
    units = {"film_width": "mm", "film_height": "mm"} | {n: "px" for n in names if n.startswith("pixel_")}
    rule = TableRule(columns=tuple(ColumnRule(quantity=n, unit=units.get(n, ""), sign=1) for n in names))
    profile = find_profile("yup-rh-m").model_copy(update={"table": rule})
    camera = leaving(SHOTS["jitter"]())
    lens = camera.track.lens
    offset = replace(lens, offset_x_mm=np.full(len(camera.track), 0.7), offset_y_mm=np.full(len(camera.track), -0.4))
    camera = replace(camera, track=replace(camera.track, lens=offset))
    (done,) = deliver_all([camera], profile, "columns", tmp_path)
    assert done.proof.max_px < 0.01 and done.files[0].read_text().splitlines()[0].startswith("frame,position_x")
