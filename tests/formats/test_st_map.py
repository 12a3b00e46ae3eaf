"""ST maps as files: written, read back by the library alone, guessed at; and what is none."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import pytest
from click.testing import CliRunner

from anaxis.cli import cli
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import Window
from anaxis.core.errors import BadInput
from anaxis.formats.st_map.fitted import Given, fit_maps
from anaxis.formats.st_map.read import read_st_map
from anaxis.formats.st_map.write import write_st_map
from anaxis.sandbox.pictures import safe_st_map


def plain(width: int, height: int) -> np.ndarray:
    """The map that moves nothing."""
    x, y = (np.arange(width) + 0.5) / width, 1 - (np.arange(height) + 0.5) / height
    return np.stack(np.meshgrid(x, y), axis=-1)


def written(path: Path, **channels: Any) -> Path:
    with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels) as out:
        out.write(str(path))
    return path


def test_a_map_is_written_as_the_trade_reads_it(tmp_path: Path) -> None:
    st = plain(40, 20) * 1.1 - 0.05
    write_st_map(st, tmp_path / "m.exr")
    with OpenEXR.File(str(tmp_path / "m.exr")) as held:
        pixels = held.channels()["RGB"].pixels
    assert pixels.dtype == np.float32 and pixels.shape == (20, 40, 3) and not pixels[..., 2].any()
    assert pixels[0, 0, 0] == pytest.approx(1.1 * 0.5 / 40 - 0.05) and pixels[0, 0, 1] == pytest.approx(
        1.1 * (1 - 0.5 / 20) - 0.05
    )
    back = read_st_map(tmp_path / "m.exr")
    assert np.abs(back.st - st).max() < 1e-7 and back.origin == "lower left" and back.direction == "undistort"


def test_what_a_map_does_not_say_is_guessed_and_said(tmp_path: Path) -> None:
    st = plain(64, 32)
    turned = st.astype(np.float32)
    turned[..., 1] = 1 - turned[..., 1]
    found = read_st_map(written(tmp_path / "upper.exr", R=turned[..., 0].copy(), G=turned[..., 1].copy()))
    assert found.origin == "upper left" and "grows from the top" in found.guesses["origin"]
    assert np.abs(found.st - st).max() < 1e-6 and found.direction == "" and found.largest_px < 1e-4
    inside = (st * 0.9 + 0.05).astype(np.float16)
    found = read_st_map(written(tmp_path / "half.exr", R=inside[..., 0].copy(), G=inside[..., 1].copy()))
    assert found.direction == "distort" and "16-bit" in found.guesses["precision"]
    assert found.largest_px == pytest.approx(np.hypot(31.5 * 0.1, 15.5 * 0.1), rel=1e-2)


@pytest.mark.parametrize("where", [read_st_map, safe_st_map])
def test_what_is_no_map_is_said(where: Any, tmp_path: Path) -> None:
    flat = np.zeros((8, 8), np.float32)
    broken = plain(8, 8).astype(np.float32)
    broken[3, 3] = np.nan
    cases = {
        "red must increase": written(tmp_path / "flat.exr", R=flat, G=flat.copy()),
        "no red and green": written(tmp_path / "y.exr", Y=flat),
        "not numbers": written(tmp_path / "nan.exr", R=broken[..., 0].copy(), G=broken[..., 1].copy()),
        "must be floats": written(tmp_path / "whole.exr", R=flat.astype(np.uint32), G=flat.astype(np.uint32)),
        "cannot be read as an EXR": tmp_path / "cut.exr",
    }
    whole = written(tmp_path / "whole2.exr", R=flat, G=flat.copy()).read_bytes()
    cases["cannot be read as an EXR"].write_bytes(whole[: len(whole) // 2])
    for says, path in cases.items():
        with pytest.raises(BadInput, match=says):
            where(path)


def test_overscan_and_maps_on_the_command_line(demo_files: dict[str, Path], tmp_path: Path) -> None:
    distortion = tmp_path / "d.json"
    distortion.write_text(json.dumps({"model": "radial-tangential", "k1": -0.12, "k2": 0.02, "p1": 0.002}))
    asked = [str(demo_files["TW_010"]), "--distortion", str(distortion), "--resolution", "480x270"]

    def run(*args: str) -> dict[str, Any]:
        done = CliRunner().invoke(cli, [*args, "--json"], standalone_mode=False)
        assert done.exception is None, done.exception
        found: dict[str, Any] = json.loads(done.output)
        return found

    over = run("overscan", *asked)
    width, height = over["resolution"]
    assert set(over) == {
        "resolution", "factor", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "hfov_deg", "vfov_deg",
        "empty_px_without", "short_px", "notes",
    }  # fmt: skip
    assert over["film_width_mm"] == pytest.approx(25.6 * width / 480) and over["film_height_mm"] == pytest.approx(
        14.4 * height / 270
    )
    assert 1 < over["factor"][0] < width / 480 and over["empty_px_without"] > 1000 and over["short_px"] == 0
    made = run("st-map", "make", *asked, "--out", str(tmp_path / "maps"))
    assert made["render"] == [width, height] and made["maps"]["undistort"]["resolution"] == [width, height]
    assert made["maps"]["distort"]["resolution"] == [480, 270] and made["maps"]["distort"]["max_px"] < 0.001
    for kind in ("undistort", "distort"):
        read = run("st-map", "read", str(tmp_path / "maps" / made["maps"][kind]["file"]))
        assert (read["origin"], read["direction"]) == ("lower left", kind)
    camera = [str(demo_files["TW_010"]), "--resolution", "480x270"]
    for kind, more in (("undistort", []), ("distort", ["--render", f"{width}x{height}"])):
        fitted = run("st-map", "fit", *camera, "--map", str(tmp_path / "maps" / made["maps"][kind]["file"]), *more)
        assert fitted["max_px"] < 0.001 and fitted["points"] > 2000
        meant = {"k1": -0.12, "k2": 0.02, "p1": 0.002}
        assert all(abs(fitted["distortion"][k] - v) < 1e-3 for k, v in meant.items() if k != "k2")
    other = run(
        "st-map",
        "fit",
        *camera,
        "--map",
        str(tmp_path / "maps" / made["maps"]["undistort"]["file"]),
        "--model",
        "division",
    )
    assert 0.01 < other["rms_px"] < other["max_px"] < 5  # another model comes near, and says how near
    again = CliRunner().invoke(cli, ["st-map", "make", *asked, "--out", str(tmp_path / "maps")], standalone_mode=False)
    assert isinstance(again.exception, BadInput) and "already exists" in again.exception.sentence
    distortion.write_text('{"model": "radial-tangential", "k1": -9}')
    folded = CliRunner().invoke(cli, ["overscan", *asked], standalone_mode=False)
    assert isinstance(folded.exception, BadInput) and "folds over at a radius" in folded.exception.sentence


@pytest.mark.parametrize("kind", ["undistort", "distort"])
@pytest.mark.parametrize("model", ["radial-tangential", "map"])
def test_which_way_a_map_of_the_plates_size_goes_is_told_by_fitting_it(kind: str, model: str, tmp_path: Path) -> None:
    """Of a barrel lens both fetch nowhere outside the picture. The oracle is Brown's radial model by plain sums."""
    width, height, half = 480, 270, 0.5
    st = plain(width, height)
    at = (st * 2 - 1) * [half, half * height / width]
    k1, k2 = -0.3, 0.1

    def bent(points: np.ndarray) -> np.ndarray:
        r2 = (points**2).sum(axis=-1, keepdims=True)
        return points * (1 + k1 * r2 + k2 * r2 * r2)

    if kind == "undistort":  # each pixel of the straight picture fetches where the lens bends it to
        found = bent(at)
    else:  # each pixel of the plate fetches in a straight picture of the plate's size: there, all that it has within
        found = at.copy()
        for _ in range(60):
            found = at / (bent(found) / found)
    moved = (found / [half, half * height / width] + 1) / 2
    path = tmp_path / "m.exr"
    write_st_map(moved, path)
    one = Given.of("m.exr", safe_st_map(path))
    plate = Window(*(np.array([v]) for v in (-half, half, -half * height / width, half * height / width)))
    if (model, kind) == ("map", "undistort"):  # told, and then it does not reach over the plate
        with pytest.raises(BadInput, match="is smaller than the plate: add"):
            fit_maps([one], model, plate, Image(width, height))
        return
    fitted = fit_maps([one], model, plate, Image(width, height))
    assert f"m.exr {kind}s: found by fitting" in " ".join(fitted.said), fitted.said
    assert fitted.off_px.max() < 0.05
    if model == "radial-tangential":
        assert fitted.document["k1"] == pytest.approx(k1, abs=2e-3)
