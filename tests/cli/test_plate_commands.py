"""Plates on the command line: the drawn plate of TW_050, undistorted and distorted again, against the painter's own pictures."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest

import solve
from shell import run as in_shell
from shell import said as run

SIZE = ["--camera", "shotcam"]


def pixels(path: Path) -> np.ndarray:
    return np.asarray(oiio.ImageBuf(str(path)).get_pixels(oiio.FLOAT))


def of(solved: Path) -> list[str]:
    return [str(solved / "TW_050_camera_v001.usda"), *SIZE, "--distortion", str(solved / "TW_050_lens.json")]


def test_a_plate_is_looked_at_beside_its_camera(solved: Path) -> None:
    file, *rest = of(solved)
    found = run("plate", str(solved / "plate"), "--file", file, *rest, "--range", "1041-1048")
    assert (
        found["resolution"] == [768, 644] and found["pixel_aspect"] == 2 and found["linear"] and not found["findings"]
    )
    assert (found["first_frame"], found["last_frame"], found["frames"]) == (1041, 1048, 8)
    short = run("plate", str(solved / "plate"), "--file", file, *rest, code=4)
    assert [f["code"] for f in short["findings"]] == ["plate_too_short"]
    moved = run("plate", str(solved / "plate"), "--file", file, *rest, "--offset", "5000", code=4)
    assert moved["findings"][0]["code"] == "plate_other_frames"


def test_the_undistorted_plate_is_what_a_pinhole_sees_and_the_way_back_is_the_plate(
    solved: Path, tmp_path: Path
) -> None:
    made = run("undistort", *of(solved), "--plate", str(solved / "plate"), "--out", str(tmp_path / "und"), code=4)
    width, height = made["resolution"]
    assert made["frames"] == 8 and made["largest_step_off"] == 0 and not made["errors"] and width > 768 and height > 644
    # The painter draws pinhole pictures: the undistorted plate is the middle of one, within its grain.
    shot = solve.jib()
    painter, world = solve.Painter(shot), solve.camera_matrices(shot)
    place = int(np.flatnonzero(shot.frames == 1044)[0])
    truth = painter.draw(world[place], place / (len(shot.frames) - 1))
    y, x = (truth.shape[0] - height) // 2, (truth.shape[1] - width) // 2
    seen = pixels(tmp_path / "und" / "TW_050_plate.undistorted.1044.exr")
    assert seen.shape == (height, width, 3)
    off = np.abs(seen - truth[y : y + height, x : x + width])[30:-30, 30:-30]
    assert np.median(off) < 0.012 and np.percentile(off, 98) < 0.06
    shifted = np.abs(seen - truth[y : y + height, x + 3 : x + 3 + width])[30:-30, 30:-30]
    assert np.percentile(shifted, 98) > 1.5 * np.percentile(off, 98)  # three pixels aside would have been seen
    back = run("distort", *of(solved), "--render", str(tmp_path / "und"), "--out", str(tmp_path / "back"), code=4)
    assert back["resolution"] == [768, 644] and back["frames"] == 8
    plate, again = (
        pixels(solved / "plate" / "TW_050_plate.1044.exr"),
        pixels(tmp_path / "back" / "TW_050_plate.undistorted.distorted.1044.exr"),
    )
    assert np.median(np.abs(plate - again)) < 0.004 and again[2:-2, 2:-2].min() > 0  # no empty pixel at the edges


def test_a_changing_distortion_has_a_map_a_frame(solved: Path, tmp_path: Path) -> None:
    table = tmp_path / "k.csv"
    table.write_text("frame,k1,p1\n" + "".join(f"{f},{-0.1 - 0.001 * (f - 1001)},0\n" for f in range(1001, 1097)))
    file = str(solved / "TW_050_camera_v001.usda")
    asked = [file, *SIZE, "--distortion", str(table)]
    made = run(
        "undistort", *asked, "--plate", str(solved / "plate"), "--out", str(tmp_path / "und"), "--filter", "linear",
        code=4,
    )  # fmt: skip
    assert made["frames"] == 8 and made["filter"] == "triangle"
    assert len(made["missing"]) == 88 and made["missing"][0] == 1001, "of 96 frames the plate has 1041 to 1048"
    a, b = (pixels(tmp_path / "und" / f"TW_050_plate.undistorted.{f}.exr") for f in (1041, 1048))
    assert np.abs(a - b).mean() > 0.002
    maps = run(
        "st-map",
        "make",
        *asked,
        "--sequence",
        "--size",
        "plate",
        "--range",
        "1041-1043",
        "--out",
        str(tmp_path / "maps"),
    )
    assert (
        maps["pairs"] == 3
        and len(list((tmp_path / "maps").iterdir())) == 6
        and maps["maps"]["distort"]["max_px"] < 0.02
    )


def test_what_cannot_be_is_said(solved: Path, tmp_path: Path) -> None:
    file = str(solved / "TW_050_camera_v001.usda")
    transfer = ["transfer", file, *SIZE, "--to", "zup-lh-cm", "--format", "usd"]
    for args, said in (
        (["undistort", file, *SIZE, "--plate", str(solved / "plate"), "--out", str(tmp_path)], "has no distortion"),
        (
            ["distort", *of(solved), "--render", str(solved / "plate"), "--out", str(tmp_path)],
            "use the images that the map was made for",
        ),
        (["undistort", *of(solved), "--plate", str(solved / "maps"), "--out", str(tmp_path)], "sequences"),
        (
            ["undistort", *of(solved), "--plate", str(solved / "plate"), "--offset", "900", "--out", str(tmp_path)],
            "no common frames",
        ),
        ([*transfer, "--overscan", "auto", "--out", str(tmp_path)], "no distortion"),
        ([*transfer, "--overscan", "lots", "--out", str(tmp_path)], "is not an overscan"),
    ):
        done = in_shell(*args)
        assert done.returncode and said in done.stderr + done.stdout, done


def test_transfer_hands_over_overscan_maps_and_an_image_plane(solved: Path, tmp_path: Path) -> None:
    found = run(
        "transfer", *of(solved), "--to", "zup-lh-cm", "--to", "yup-rh-cm", "--format", "usd,abc,json", "--overscan", "auto", "--multiple", "16",
        "--image-plane", "40", "--plate", str(solved / "plate"), "--bundle", "--out", str(tmp_path),
    )  # fmt: skip
    assert found["proof"]["max_px"] <= 0.01 and found["proof"]["plate"]["max_px"] <= 0.01
    assert all(d["proof"]["plate"]["max_px"] <= 0.01 for d in found["deliveries"]) and len(found["deliveries"]) == 6
    assert any("image plane" in n for n in found["notes"]) and any("With overscan: render" in n for n in found["notes"])

    with zipfile.ZipFile(next(tmp_path.glob("*.zip"))) as archive:
        names = set(archive.namelist())
        assert {
            "distortion/distortion.json",
            "distortion/distort.exr",
            "distortion/undistort.exr",
            "transfer_sheet.html",
        } <= names
        assert json.loads(archive.read("distortion/distortion.json"))["a1"] == pytest.approx(-0.19)
        sheet = archive.read("transfer_sheet.html").decode()
    assert "From the render to the plate" in sheet and "Image plane" in sheet and "in the plate as shot" in sheet


def test_a_lens_that_is_changed_has_a_pair_of_maps_for_each_stretch(solved: Path, tmp_path: Path) -> None:
    """A distortion that changes once, on frame 1044; one that changes on every frame would be too much for a zip, which is said."""
    table, file = tmp_path / "k.csv", str(solved / "TW_050_camera_v001.usda")
    asked = [file, *SIZE, "--distortion", str(table), "--range", "1041-1052", "--to", "zup-lh-cm", "--format", "usd"]
    table.write_text("frame,k1,p1\n" + "".join(f"{f},{-0.1 if f < 1044 else -0.05},0\n" for f in range(1001, 1097)))
    stepped = run("transfer", *asked, "--bundle", "--out", str(tmp_path))
    assert "with the maps that distort renders to" in json.dumps(stepped)
    with zipfile.ZipFile(next(tmp_path.glob("*.zip"))) as archive:
        maps = sorted(n for n in archive.namelist() if n.endswith(".exr"))
        assert maps == [f"distortion/{k}.{r}.exr" for k in ("distort", "undistort") for r in ("1041-1043", "1044-1052")]
        (tmp_path / "one.exr").write_bytes(archive.read(maps[0]))
        (tmp_path / "two.exr").write_bytes(archive.read(maps[1]))
    # The stronger bend fetches further from where a pixel is, at the plate's corner.
    off = [float(np.abs(pixels(tmp_path / n)[0, 0, :2] - [0, 1]).max()) for n in ("one.exr", "two.exr")]
    assert off[0] > 1.5 * off[1] > 0
    table.write_text("frame,k1,p1\n" + "".join(f"{f},{-0.1 - 0.001 * (f - 1001)},0\n" for f in range(1001, 1097)))
    moving = run("transfer", *asked, "--bundle", "--force", "--out", str(tmp_path))
    assert "this lens needs 12 pairs over the shot, and the zip holds up to 8" in json.dumps(moving)


def test_a_track_document_keeps_the_distortion(solved: Path, tmp_path: Path) -> None:
    run("transfer", *of(solved), "--to", "yup-rh-cm", "--format", "json", "--out", str(tmp_path))
    again = run("overscan", str(next(tmp_path.glob("*.track.json"))))
    direct = run("overscan", *of(solved))
    assert again["resolution"] == direct["resolution"] and again["factor"] == pytest.approx(direct["factor"], rel=1e-9)


def test_a_model_is_fitted_to_a_pair_and_to_a_sequence_of_maps(solved: Path, tmp_path: Path) -> None:
    """The maps are the demo's own, made without us; those of the sequence are ours, of a lens that breathes."""
    file = str(solved / "TW_050_camera_v001.usda")
    pair = [a for k in ("undistort", "distort") for a in ("--map", str(solved / "maps" / f"TW_050_{k}.exr"))]
    found = run("st-map", "fit", file, *SIZE, *pair, "--model", "anamorphic")
    assert found["max_px"] < 0.005 and found["distortion"]["a1"] == pytest.approx(-0.19, abs=1e-3)
    table = tmp_path / "k.csv"
    table.write_text("frame,k1,p1\n" + "".join(f"{f},{-0.1 - 0.01 * (f - 1041)},0\n" for f in range(1001, 1097)))
    run(
        "st-map",
        "make",
        file,
        *SIZE,
        "--distortion",
        str(table),
        "--sequence",
        "--range",
        "1041-1043",
        "--out",
        str(tmp_path),
    )
    maps = str(tmp_path / "TW_050_camera_v001.shotcam.undistort.####.exr")
    found = run("st-map", "fit", file, *SIZE, "--map", maps)
    assert found["distortion"]["frames"] == [1041, 1042, 1043] and found["max_px"] < 0.005
    assert found["distortion"]["k1"] == pytest.approx([-0.1, -0.11, -0.12], abs=1e-4)
    again = tmp_path / "again.json"
    again.write_text(json.dumps(found["distortion"]))
    run("overscan", file, *SIZE, "--distortion", str(again), "--range", "1041-1043")
