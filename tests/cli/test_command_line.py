"""The command line as a public interface: its JSON, its sentences, its exit codes."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from pxr import Usd, UsdGeom
from scipy.spatial.transform import Rotation

from anaxis.formats import read_file
from anaxis.packages import SHIPPED_KEYS, shipped_profiles
from shell import run


def test_inspect_says_what_is_in_a_file(demo_files: dict[str, Path]) -> None:
    done = run("inspect", demo_files["TW_020"], "--json")
    report = json.loads(done.stdout)
    assert done.returncode == 0 and done.stderr == ""
    assert report["file"] == {
        "name": "TW_020_camera_v001.usda",
        "format": "usd",
        "up_axis": "Z",
        "metres_per_unit": 1.0,
        "rate": "25/1",
        "first_frame": 1,
        "last_frame": 240,
    }
    (camera,) = report["cameras"]
    assert camera["path"] == "/TW_020/rail/dolly/head/shotcam" and camera["name"] == "shotcam"
    assert (camera["first_frame"], camera["last_frame"], camera["samples"]) == (1, 240, 240)
    assert camera["animated"] and camera["lens_animated"] and camera["findings"] == []
    assert camera["lens"]["focal_mm"] == pytest.approx(24) and camera["lens"]["film_width_mm"] == pytest.approx(24.89)
    assert "shotcam" in run("inspect", demo_files["TW_020"]).stdout


@pytest.mark.parametrize("key", SHIPPED_KEYS)
def test_values_are_the_packages_own(demo_files: dict[str, Path], key: str) -> None:
    document = json.loads(
        run(
            "values", demo_files["TW_010"], "--to", key, "--frames", "1001-1003", "--resolution", "2000x1000", "--json"
        ).stdout
    )
    assert [f["frame"] for f in document["frames"]] == [1001, 1002, 1003]
    assert document["to"] == key and document["rate"] == "24/1" and document["resolution"] == [2000, 1000]
    profile, first = shipped_profiles()[key], document["frames"][0]
    matrix = np.array(first["matrix"])
    assert np.allclose(matrix[:3, 3], first["position"]) and np.allclose(matrix[3], [0, 0, 0, 1])
    order = profile.rotation.order
    angles = np.array(first["rotation_deg"]) * profile.rotation.signs
    turned = Rotation.from_euler(order.lower(), angles[["XYZ".index(a) for a in order]], degrees=True)
    assert np.allclose(turned.as_matrix(), matrix[:3, :3], atol=1e-9)
    # The library's own evaluation of the source: where the camera looks, carried over by hand.
    stage = Usd.Stage.Open(str(demo_files["TW_010"]))
    frustum = (
        UsdGeom.Camera(stage.GetPrimAtPath("/TW_010/crane_base/crane_arm/crane_reach/head/shotcam"))
        .GetCamera(1001)
        .frustum
    )
    look = profile.convention.world @ np.array(frustum.ComputeViewDirection())
    assert np.allclose(matrix[:3, :3] @ -profile.convention.camera[:, 2], look, atol=1e-9)
    assert first["seconds"] == pytest.approx(1001 / 24)
    # The picture is the source's, fitted by width into 2000 x 1000, whatever the receiver's fit.
    assert first["hfov_deg"] == pytest.approx(np.degrees(2 * np.arctan(25.6 / 64)), rel=1e-6)
    assert first["vfov_deg"] == pytest.approx(np.degrees(2 * np.arctan(12.8 / 64)), rel=1e-6)
    assert first["zoom_px"] == pytest.approx(32 * 2000 / 25.6, rel=1e-6)
    assert first["film_height_mm"] == pytest.approx(12.8 if profile.lens.fit == "height" else 14.4, rel=1e-6)
    assert first["focus"] == pytest.approx(7.5 / profile.metres_per_unit, rel=1e-6)


def test_angles_at_a_frame_do_not_depend_on_the_range_asked_for(demo_files: dict[str, Path]) -> None:
    words = ("values", demo_files["TW_030"], "--to", "zup-lh-cm", "--json")
    whole = {f["frame"]: f for f in json.loads(run(*words).stdout)["frames"]}
    part = json.loads(run(*words, "--frames", "1380-1400").stdout)["frames"]
    assert len(whole) == 400 and all(whole[f["frame"]] == f for f in part)


@pytest.mark.parametrize("format_key", ("usd", "json", "columns"))
def test_transfer_writes_and_proves(demo_files: dict[str, Path], tmp_path: Path, format_key: str) -> None:
    out = tmp_path / "new" / "folder"
    done = run(
        "transfer", demo_files["TW_030"], "--to", "zup-lh-cm", "--format", format_key, "--out", out, "--json",
        "--allow", "film_aspect",
    )  # fmt: skip
    document = json.loads(done.stdout)
    assert done.returncode == 0, done.stderr
    assert all(Path(f).is_file() for f in document["files"]) and len(list(out.iterdir())) == 1
    proof = document["proof"]
    assert proof["grade"] == "exact" and proof["max_px"] <= 0.01 and proof["test_points"] == 187
    assert 1001 <= proof["worst_frame"] <= 1400 and proof["median_px"] <= proof["max_px"]


def test_exit_code_3_when_the_proof_is_above_the_tolerance(demo_files: dict[str, Path], tmp_path: Path) -> None:
    done = run("transfer", demo_files["TW_020"], "--to", "zup-lh-cm", "--format", "usd", "--out", tmp_path,
               "--tolerance-px", "0.0000001", "--json")  # fmt: skip
    assert done.returncode == 3 and json.loads(done.stdout)["proof"]["max_px"] > 1e-7
    assert "above the tolerance of 1e-07 px" in done.stderr


def test_several_cameras_must_be_chosen(usda: Callable[..., Path]) -> None:
    path = usda('def Xform "a" {\n CAMERA\n}\ndef Xform "b" {\n CAMERA\n}')
    done = run("values", path, "--to", "zup-lh-cm")
    assert done.returncode == 2 and "--camera: /a/cam, /b/cam" in done.stderr
    assert (
        json.loads(run("values", path, "--to", "zup-lh-cm", "--camera", "/b/cam", "--json").stdout)["camera"]
        == "/b/cam"
    )
    assert run("values", path, "--to", "zup-lh-cm", "--camera", "cam").returncode == 2


def test_a_profile_of_ones_own(demo_files: dict[str, Path], tmp_path: Path) -> None:
    mine = {
        "key": "attic",
        "label": "The attic",
        "world": {"right": "+X", "up": "+Z", "back": "+Y"},
        "camera": {"right": "+Y", "up": "+Z", "back": "-X"},
        "metres_per_unit": 0.01,
        "rotation": {"order": "XYZ", "signs": [-1, -1, 1]},
        "lens": {"shown": "focal", "film_unit": "mm", "fit": "width"},
        "time": {"rate": "30/1", "first_frame": 0},
    }
    path = tmp_path / "attic.json"
    path.write_text(json.dumps(mine))
    words = ("values", demo_files["TW_010"], "--frames", "1050-1050", "--json", "--to")
    mine_frames = json.loads(run(*words, path).stdout)["frames"]
    assert mine_frames == json.loads(run(*words, "zup-lh-cm").stdout)["frames"]
    path.write_text(json.dumps({**mine, "camera": {"right": "+X", "up": "+Y", "back": "+Z"}}))
    refused = run(*words, path)
    assert refused.returncode == 2 and "mirror the camera" in refused.stderr and refused.stderr.count("\n") == 1
    path.write_text(json.dumps({**mine, "metres_per_unit": -1}))
    assert "field metres_per_unit" in run(*words, path).stderr


def test_a_guess_can_be_set(usda: Callable[..., Path]) -> None:
    path = usda(head="timeCodesPerSecond = 24")
    guessed = json.loads(run("inspect", path, "--json").stdout)
    assert {"guessed_up_axis", "guessed_metres_per_unit"} <= {f["code"] for f in guessed["cameras"][0]["findings"]}
    report = json.loads(run("inspect", path, "--up-axis", "Z", "--metres-per-unit", "0.1", "--json").stdout)
    assert report["file"]["up_axis"] == "Z" and report["file"]["metres_per_unit"] == 0.1
    assert not [f for f in report["cameras"][0]["findings"] if f["code"].startswith("guessed")]
    assert run("inspect", path, "--metres-per-unit", "0").returncode == 2


@pytest.mark.parametrize(
    "words",
    (
        ("values", "FILE", "--to", "nothing-known"),
        ("values", "FILE", "--to", "zup-lh-cm", "--frames", "5000-6000"),
        ("values", "FILE", "--to", "zup-lh-cm", "--frames", "9-1"),
        ("values", "FILE", "--to", "zup-lh-cm", "--resolution", "wide"),
        ("transfer", "FILE", "--to", "zup-lh-cm", "--format", "usd", "--out", "/proc/nowhere"),
        ("transfer", "FILE", "--to", "zup-lh-cm", "--format", "scroll", "--out", "x"),
        ("inspect",),
        ("inspect", "no-such-file.usd"),
        ("inspect", "tide.txt"),
    ),
)
def test_bad_words_get_one_sentence(demo_files: dict[str, Path], words: tuple[str, ...]) -> None:
    done = run(*(demo_files["TW_010"] if w == "FILE" else w for w in words))
    assert done.returncode == 2 and done.stderr.startswith("anaxis: ") and done.stderr.count("\n") == 1


@pytest.mark.parametrize("suffix", (".abc", ".glb", ".dae", ".txt", ".zip"))
def test_inspect_reads_every_format(other_files: dict[str, Path], suffix: str) -> None:
    report = json.loads(run("inspect", other_files[suffix], "--json").stdout)
    (camera,) = report["cameras"]
    assert (camera["first_frame"], camera["last_frame"], camera["samples"]) == (1, 240, 240) and camera["animated"]
    assert report["file"]["rate"] == ("24/1" if suffix == ".txt" else "25/1")


def test_a_recipe_and_a_column_layout_come_from_files(other_files: dict[str, Path], tmp_path: Path) -> None:
    layout = read_file(other_files[".txt"]).columns["layout"] | {"rate": "25"}  # type: ignore[index]
    (tmp_path / "columns.json").write_text(json.dumps(layout))
    steps = [
        {"code": "bake", "params": {"first": 10, "last": 20, "step": 0.5}},
        {"code": "shift", "params": {"x_m": 1, "y_m": 0, "z_m": 0}},
    ]
    (tmp_path / "recipe.json").write_text(json.dumps({"operations": steps}))
    plain = json.loads(run("values", other_files[".txt"], "--to", "yup-rh-m", "--frames", "10-20", "--json").stdout)
    done = run(
        "values",
        other_files[".txt"],
        "--to",
        "yup-rh-m",
        "--columns",
        tmp_path / "columns.json",
        "--recipe",
        tmp_path / "recipe.json",
        "--json",
    )
    shown = json.loads(done.stdout)
    assert shown["rate"] == "25/1" and [f["frame"] for f in shown["frames"]] == [10 + i / 2 for i in range(21)]
    assert shown["frames"][0]["position"][0] == pytest.approx(plain["frames"][0]["position"][0] + 1)
    for format_key in ("usd", "json", "columns"):
        out = tmp_path / format_key
        sent = run(
            "transfer",
            other_files[".abc"],
            "--to",
            "zup-lh-cm",
            "--format",
            format_key,
            "--out",
            out,
            "--recipe",
            tmp_path / "recipe.json",
            "--json",
            "--allow",
            "guessed_rate,guessed_up_axis,guessed_metres_per_unit",
        )
        assert sent.returncode == 0 and json.loads(sent.stdout)["proof"]["grade"] == "exact", sent.stderr


@pytest.mark.parametrize(
    ("options", "said"),
    (
        (("--recipe", "nowhere.json"), "The recipe nowhere.json cannot be read"),
        (("--columns", "nowhere.json"), "The column layout nowhere.json cannot be read"),
        (("--rate", "often"), "'often' is not a frame rate"),
        (("--up-axis", "Q"), "Q"),
    ),
)
def test_an_option_that_cannot_be_used_is_one_sentence(
    other_files: dict[str, Path], options: tuple[str, ...], said: str
) -> None:
    done = run("inspect", other_files[".txt"], *options)
    assert done.returncode == 2 and said in done.stderr and done.stderr.count("\n") == 1


def test_a_file_on_standard_input_is_read_as_what_it_is(
    other_files: dict[str, Path], demo_files: dict[str, Path]
) -> None:
    # Of the others one has its data in a second file, one holds no camera.
    files = {s: f for s, f in other_files.items() if s not in (".gltf", ".obj")} | {".usda": demo_files["TW_020"]}
    for suffix, path in files.items():
        program = [sys.executable, "-m", "anaxis", "inspect", "-", "--json"]
        done = subprocess.run(program, input=path.read_bytes(), capture_output=True, check=False)
        head = json.loads(done.stdout)["file"]
        assert head["name"].startswith("standard_input"), suffix
        assert head["format"] == run("inspect", path, "--json").document["file"]["format"], suffix
    nothing = subprocess.run(program, input=b"", capture_output=True, text=False, check=False)
    assert nothing.returncode == 2 and b"is empty" in nothing.stderr


def test_whoever_stops_reading_is_no_error(demo_files: dict[str, Path]) -> None:
    program = [sys.executable, "-m", "anaxis", "values", str(demo_files["TW_020"]), "--to", "zup-lh-cm", "--json"]
    with subprocess.Popen(program, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as going:
        assert going.stdout is not None and going.stderr is not None
        going.stdout.close()  # before anything is printed
        assert going.stderr.read() == b""
    assert going.returncode == 1


def test_a_layer_reads_the_layers_of_the_folder_named_and_no_others(
    demo_files: dict[str, Path], tmp_path: Path
) -> None:
    inner = tmp_path / "shot" / "layers"
    inner.mkdir(parents=True)
    (inner / "rig.usda").write_bytes(demo_files["TW_010"].read_bytes())
    (tmp_path / "secret.usda").write_bytes(demo_files["TW_020"].read_bytes())
    (tmp_path / "shot" / "top.usda").write_text(
        "#usda 1.0\n(\n subLayers = [@./layers/rig.usda@, @../secret.usda@]\n)\n"
    )
    alone = run("inspect", tmp_path / "shot" / "top.usda", "--json")
    assert alone.returncode == 2 and "'../secret.usda', outside the" in alone.stderr
    told = run("inspect", tmp_path / "shot" / "top.usda", "--json", "--allow-files", tmp_path / "shot").document
    assert [c["path"].split("/")[1] for c in told["cameras"]] == ["TW_010"]
    assert any(f["code"] == "outside_reference" and "secret" in f["message"] for f in told["cameras"][0]["findings"])
    elsewhere = run("inspect", demo_files["TW_010"], "--allow-files", tmp_path / "shot")
    assert elsewhere.returncode == 2 and "is not in" in elsewhere.stderr
