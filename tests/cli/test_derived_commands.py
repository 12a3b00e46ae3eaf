"""``anaxis join``, ``frame`` and ``hold``: documents, files, exit codes, and the way back into a drawn sphere."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest

import cut
import sphere
from anaxis.core.scene.bake import bake_camera
from anaxis.formats import read_file
from shell import said as run


def pixels(path: Path) -> np.ndarray:
    return np.asarray(oiio.ImageBuf(str(path)).get_pixels(oiio.FLOAT))


@pytest.fixture
def edit(tmp_path: Path) -> str:
    return str(cut.make_cut(tmp_path / "reel_1.otio"))


@pytest.fixture
def cameras(demo_files: dict[str, Path], solved: Path) -> list[str]:
    files = {**demo_files, "TW_050": Path(f"{solved / 'TW_050_camera_v001.usda'}#shotcam")}
    return [a for name in ("TW_010", "TW_030", "TW_050") for a in ("--camera", f"{name}={files[name]}")]


def test_a_cut_is_joined_delivered_and_written_back(
    edit: str, cameras: list[str], demo_files: dict[str, Path], tmp_path: Path
) -> None:
    out = tmp_path / "out"
    told = ["--allow", "join_resolution,join_pixel_aspect,join_aspect,join_film_back"]
    made = run(
        "join", edit, *cameras, "--first", "2001", "--to", "zup-lh-cm", "--format", "usd,json", "--out", str(out), *told
    )
    assert (made["first_frame"], made["last_frame"]) == (2001, 2228)
    assert [(s["name"], s["source_first"], s["source_last"], s["first"], s["last"]) for s in made["shots"]] == [
        ("TW_010_plate_v003", 1009, 1104, 2001, 2096), ("TW_030_plate_v002", 1101, 1172, 2097, 2168), ("TW_050_plate_v001", 1009, 1068, 2169, 2228),
    ]  # fmt: skip
    assert made["proof"]["max_px"] <= 0.01 and made["proof"]["frames_expected"] == 228
    assert {"joined.otio", "joined.edl", "joined.shots.csv"} <= {Path(f).name for f in made["files"]}
    track = bake_camera(read_file(next(Path(f) for f in made["files"] if f.endswith(".track.json")))).track
    own = bake_camera(read_file(demo_files["TW_030"])).track
    assert np.abs(track.position_m[96] - own.position_m[100]).max() < 1e-9
    # The file that was written back joins the same camera.
    again = run("join", str(out / "joined.otio"), *cameras, "--first", "2001", *told)
    assert again["shots"] == made["shots"] and again["files"] == [] and again["proof"] is None


def test_what_is_wrong_with_a_cut_ends_in_a_code_or_a_sentence(edit: str, cameras: list[str], tmp_path: Path) -> None:
    told = ["--allow", "join_resolution,join_pixel_aspect,join_aspect,join_film_back"]
    swapped = run("join", edit, *cameras, "--range", "1001-1282", *told, code=4)
    (finding,) = [f for f in swapped["findings"] if f["code"] == "render_range"]
    assert finding["numbers"]["kind"] == "digit_swapped" and "1228" in finding["message"]
    run("join", edit, *cameras, "--range", "1001-1228", *told)
    gone = run("join", edit, *cameras[:4], *told, code=4)
    assert {"join_without"} <= {f["code"] for f in gone["findings"]}
    assert "has no clip 'TW_999'" in run("join", edit, "--camera", f"TW_999={cameras[1].split('=')[1]}", code=2)["said"]
    assert "write CLIP=FILE" in run("join", edit, "--camera", "TW_010", code=2)["said"]
    assert "no file" in run("join", str(tmp_path / "none.edl"), *cameras, code=2)["said"]
    assert "needs a format" in run("join", edit, *cameras, "--to", "zup-lh-cm", code=2)["said"]


def test_an_object_is_framed_and_its_render_comes_back_into_the_plate(tmp_path: Path) -> None:
    """The bell, cut out of the drawn sphere and put back: the plate's own pixels."""
    folder, out = tmp_path / "TW_060", tmp_path / "out"
    file = sphere.make_sphere(folder, np.arange(20, 23))
    bell = ["--object", "tide_bell_body", "--border", "25", "--resolution", "1280x720"]
    cut_out = ["--plate", str(folder / "plate"), "--maps", "--cut-out", "--range", "1021-1023"]
    made = run("frame", str(file), *bell, *cut_out, "--to", "zup-lh-cm", "--format", "usd", "--out", str(out))
    assert made["carried_back_px"] < 0.1 and made["proof"]["max_px"] <= 0.01
    assert (made["first_frame"], made["last_frame"]) == (1021, 1023) and made["focal_mm"][0] <= made["focal_mm"][1]
    assert made["sphere"]["maps"]["files"] == 9 and made["sphere"]["maps"]["carried_back_px"] < 0.1
    assert made["sphere"]["cut_out"] == {
        "frames": 3,
        "resolution": [1280, 720],
        "first": "framing.plate.1021.png",
        "errors": [],
    }
    picture = pixels(out / "framing.plate.1022.png")
    assert picture.shape == (720, 1280, 3) and picture.std() > 0.05
    back = tmp_path / "back"
    put = run(
        "frame",
        str(file),
        *bell,
        "--plate",
        str(folder / "plate"),
        "--range",
        "1021-1023",
        "--render",
        str(out / "framing.plate.####.png"),
        "--out",
        str(back),
    )
    assert put["sphere"]["put_back"]["resolution"] == [1024, 512] and not put["sphere"]["put_back"]["errors"]
    whole, plate = pixels(back / "framing.in_plate.1022.png"), pixels(folder / "plate" / "TW_060_sphere.1022.png")
    inside = whole[..., 3] > 0.999
    assert 500 < inside.sum() < 0.2 * inside.size and (whole[..., 3] == 0).sum() > 0.5 * inside.size
    assert np.abs(whole[inside][:, :3] - plate[inside][:, :3]).mean() < 0.01
    assert "no picture" in run("frame", str(file), "--object", "tide_bell", "--border", "50", code=2)["said"]
    assert "no landmark 'gong'" in run("frame", str(file), "--object", "gong", code=2)["said"]
    assert (
        "twice as wide" in run("frame", str(file), "--object", "tide_bell", "--plate-size", "1920x1080", code=2)["said"]
    )
    assert "need a folder" in run("frame", str(file), "--object", "tide_bell", "--maps", code=2)["said"]


def test_a_camera_is_held_and_says_what_it_covers(demo_files: dict[str, Path], tmp_path: Path) -> None:
    file = str(demo_files["TW_010"])
    made = run(
        "hold",
        file,
        "--at",
        "1060",
        "--overscan",
        "10%",
        "--coverage",
        "--to",
        "zup-lh-cm",
        "--format",
        "usd",
        "--out",
        str(tmp_path / "out"),
    )
    assert (
        made["at"] == 1060
        and made["proof"]["max_px"] <= 0.01
        and 0 < made["coverage"]["worst"] <= made["coverage"]["share"] <= 1
    )
    (path,) = [Path(f) for f in made["files"]]
    scene = read_file(path)
    assert (
        scene.cameras[0].name == "shotcam_projection_f1060" and scene.image is not None and scene.image.width_px == 2112
    )
    # Taken in again, nobody takes it for the shot camera.
    told = run("inspect", str(path))
    assert "projection_camera" in json.dumps(told)
    best = run("hold", file)["best"]
    assert [len(b["frames"]) for b in best] == [1, 2, 3] and best[0]["share"] <= best[1]["share"] <= best[2]["share"]
    assert "no sample on frame 5000" in run("hold", file, "--at", "5000", code=2)["said"]
    out = str(tmp_path / "several")
    both = run("hold", file, "--at", "1030,1050", "--to", "yup-rh-m", "--format", "usd", "--bundle", "--out", out)
    assert both["at"] == [1030, 1050] and [d["camera"] for d in both["deliveries"]] == [
        "/shotcam_projection_f1030", "/shotcam_projection_f1050",
    ]  # fmt: skip
    (packed,) = (f for f in both["files"] if f.endswith(".zip"))
    with zipfile.ZipFile(packed) as archive:
        assert sum(n.startswith("camera/") for n in archive.namelist()) == 2
    assert "names one camera" in run("hold", file, "--at", "1030,1050", "--name", "x", code=2)["said"]
    assert "'soon' is not a number" in run("hold", file, "--at", "soon", code=2)["said"]
