"""The command line's round trip: transfer, arrive, proof, diagnose, and profiles with habits."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.cli import main
from anaxis.core.camera.lens import Image
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.space.mapping import channel_map
from anaxis.core.space.rotation import angles_from_matrices
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats.tables.write import write_columns
from anaxis.packages import SHIPPED_KEYS, shipped_profiles
from anaxis.standin.package import open_as_package
from conftest import random_rotations
from ordinary import SHOTS
from shell import run
from test_habits import with_habits
from test_ordinary_shots import leaving


def said(*args: object) -> Any:
    result = run(*args)
    assert result.returncode == 0, result.stderr
    return json.loads(result.stdout)


@pytest.fixture
def bad(tmp_path: Path) -> Path:
    profile = with_habits(
        "zup-lh-cm", {"code": "look_axis", "look": "+X", "up": "+Y"}, {"code": "scale", "factor": 100}
    )
    path = tmp_path / "bad.json"
    path.write_text(profile.model_copy(update={"key": "bad"}).model_dump_json())
    return path


def test_several_formats_and_packages_and_a_bundle_for_each(demo_files: dict[str, Path], tmp_path: Path) -> None:
    args = (
        demo_files["TW_010"],
        "--to",
        "zup-lh-cm",
        "--to",
        "yup-rh-m",
        "--format",
        "usd,abc,gltf,dae,columns,json",
        "--bundle",
        "--json",
    )
    done = said("transfer", *args, "--out", tmp_path / "a")
    assert len(done["deliveries"]) == 12 and done["proof"]["max_px"] <= 0.01
    assert {d["format"] for d in done["deliveries"]} == {"usd", "alembic", "gltf", "collada", "columns", "json"}
    again = said("transfer", *args, "--out", tmp_path / "b")
    for one, other in zip(done["files"], again["files"], strict=True):
        assert Path(one).read_bytes() == Path(other).read_bytes(), one
    with zipfile.ZipFile(tmp_path / "a" / f"{demo_files['TW_010'].stem}.shotcam.zup-lh-cm.zip") as bundle:
        manifest = json.loads(bundle.read("manifest.json"))
        assert set(manifest["files"]) == set(bundle.namelist()) - {"manifest.json"} and len(bundle.namelist()) == 16
        for name, entry in manifest["files"].items():
            assert hashlib.sha256(bundle.read(name)).hexdigest() == entry["sha256"]
        assert (
            manifest["cameras"][0]["source"]["sha256"] == hashlib.sha256(demo_files["TW_010"].read_bytes()).hexdigest()
        )
        marks = bundle.read("landmarks/landmarks.csv").decode().splitlines()
        assert marks[0] == "name,x_cm,y_cm,z_cm" and len(marks) == 8
        check = bundle.read("axis_check/axis_check.obj").decode()
        ends = [line for line in check.splitlines() if line.startswith("v ")]
        assert ends[1] == "v 100.0 0.0 0.0" and "o one_metre" in check  # a metre along the package's own +X, in cm
        sheet = bundle.read("transfer_sheet.html").decode()
        for words in (
            "Set on import",
            "Expected values in the package",
            "Where to look",
            "tide_bell",
            "Rate, frames/s",
            "1001 to 1120",
        ):
            assert words in sheet
        assert b'upAxis = "Z"' in bundle.read("landmarks/landmarks.usda")


def test_arrive_proof_and_diagnose_tell_what_a_package_made_of_a_file(
    demo_files: dict[str, Path], tmp_path: Path, bad: Path
) -> None:
    source = demo_files["TW_010"]
    sent = Path(
        said("transfer", source, "--to", "zup-lh-cm", "--format", "usd", "--out", tmp_path, "--json")["files"][0]
    )
    plain, spoiled = (
        said("arrive", sent, "--profile", "zup-lh-cm", "--json"),
        said("arrive", sent, "--profile", bad, "--json"),
    )
    meant = said("values", source, "--to", "zup-lh-cm", "--json")["frames"]
    assert np.allclose(plain["frames"][5]["position"], meant[5]["position"]) and plain["habits"] == []
    assert (
        np.allclose(spoiled["frames"][5]["position"], np.array(meant[5]["position"]) * 100)
        and len(spoiled["habits"]) == 2
    )
    assert said("proof", source, sent, "--json")["grade"] == "exact"
    # What the package exports again, in its own numbers.
    from anaxis.packages.model import profile_from_file

    truth = profile_from_file(bad)
    seen = open_as_package(sent, truth, Image(1920, 1080))
    back = write_columns(
        [Outgoing(seen.track, truth.convention, seen.image, "width", NO_LANDMARKS, ())], tmp_path, "back"
    )[0]
    off = run("proof", source, back, "--profile", "zup-lh-cm", "--json")
    assert off.returncode == 3 and json.loads(off.stdout)["grade"] == "off"
    found = said("diagnose", source, back, "--profile", "zup-lh-cm", "--json")
    assert found["explained"] and set(found) == {"explanations", "explained", "differences"}
    best = found["explanations"][0]
    assert {c["code"] for c in best["causes"]} == {"look_axis", "scale"} and best["residual_px"] < 0.05
    assert best["frames"] == [[1001, 1120]] and "scales everything by 100" in best["sentence"]
    assert "package: name the package with --profile" in run("proof", source, back).stderr
    # Sent again for the package as it is, it arrives right: the file makes up for the habits.
    cured = said("transfer", source, "--to", bad, "--format", "usd,json,abc", "--out", tmp_path / "cured", "--json")
    assert cured["proof"]["max_px"] <= 0.01 and "compensates for this" in " ".join(cured["notes"])


def test_what_a_transfer_renumbered_is_no_fault_of_the_package(tmp_path: Path) -> None:
    shot = SHOTS["frame_minus_20"]()
    (written,) = deliver_all(
        [leaving(shot)], shipped_profiles()["yup-rh-m"], "usd", tmp_path, DeliveryOptions(first=-20)
    )
    source = written.files[0]
    sent = Path(
        said(
            "transfer",
            source,
            "--to",
            "zup-lh-cm",
            "--format",
            "usd",
            "--out",
            tmp_path / "sent",
            "--allow",
            "negative_frames",
            "--json",
        )["files"][0]
    )
    proof = run("proof", source, sent, "--profile", "zup-lh-cm", "--json")
    assert proof.returncode == 0 and json.loads(proof.stdout)["missing_frames"] == []
    assert "renumbered frame -20 as frame 0" in proof.stderr
    found = said("diagnose", source, sent, "--profile", "zup-lh-cm", "--json")
    assert found["explained"] and found["explanations"][0]["causes"] == []


@pytest.mark.parametrize("name", ["still", "held", "whip", "primes", "frame_86400", "frame_minus_20", "three"])
def test_another_first_frame_there_in_every_format(name: str, tmp_path: Path) -> None:
    """What pages and HTTP can ask for: the camera itself keeps its numbers, the files begin where it was asked."""
    (source,) = deliver_all(
        [leaving(SHOTS[name]())], shipped_profiles()["yup-rh-m"], "usd", tmp_path, DeliveryOptions(first=500)
    )
    done = run(
        "transfer", source.files[0], "--to", "zup-rh-m", "--format", "usd,abc,gltf,dae,columns,json", "--first-there", 1001,
        "--out", tmp_path / "sent", "--json",
    )  # fmt: skip
    # 3: what glTF cannot hold of a moving lens is said to be missing; 4: a still camera is asked about.
    assert done.returncode in (0, 3, 4), done.stderr
    document = done.document
    off = {d["format"] for d in document["deliveries"] if d["proof"]["max_px"] > 0.05}
    assert len(document["deliveries"]) == 6 and off <= ({"gltf"} if name == "primes" else set()), off
    assert any("is frame 1001 in the package" in note for note in document["notes"])
    (track,) = (json.loads(Path(f).read_text()) for f in document["files"] if f.endswith(".json"))
    assert track["frames"][0] == 1001 and len(track["frames"]) == len(SHOTS[name]().frames)


def test_parents_that_were_left_out_are_found(demo_files: dict[str, Path], tmp_path: Path) -> None:
    from dataclasses import replace

    from anaxis.core.scene.bake import bake_camera
    from anaxis.core.time.rates import frame_range
    from anaxis.formats import read_file

    scene = read_file(demo_files["TW_020"])
    node = scene.camera()
    alone = bake_camera(scene.replaced(replace(node, parent=None)), node.path, frame_range(1, 240, "it")).track
    profile = shipped_profiles()["yup-rh-m"]
    back = write_columns(
        [Outgoing(alone, profile.convention, Image(1920, 1080), "height", NO_LANDMARKS, ())], tmp_path, "back"
    )[0]
    found = said("diagnose", demo_files["TW_020"], back, "--profile", "yup-rh-m", "--json")
    assert any(c["code"] == "parents" for c in found["explanations"][0]["causes"]), found["explanations"][0]


@pytest.mark.parametrize("a", SHIPPED_KEYS[::2])
@pytest.mark.parametrize("b", SHIPPED_KEYS)
def test_a_channel_mapping_holds_for_any_rotation(a: str, b: str) -> None:
    source, target = shipped_profiles()[a].convention, shipped_profiles()[b].convention
    found = channel_map(source, target)
    turns = random_rotations(40, 3)
    wanted = target.rotation_from_canonical(turns)
    here = angles_from_matrices(source.rotation_from_canonical(turns), source.order, source.signs).deg
    assert np.allclose(found.turn @ source.rotation_from_canonical(turns) @ found.camera, wanted)
    typed = np.stack([here[:, c] * f + o for c, f, o in found.rotation], axis=1)
    # By scipy alone: the typed angles in the order said, the camera's constant rotation below them.
    order = found.order or target.order

    def turned(angles: np.ndarray) -> np.ndarray:
        shown = (angles * target.signs)[:, ["XYZ".index(a) for a in order]]
        return Rotation.from_euler(order.lower(), shown, degrees=True).as_matrix()

    below = np.eye(3) if found.offset_deg is None else turned(np.array([found.offset_deg]))[0]
    assert np.allclose(turned(typed) @ below, wanted)
    place = np.random.default_rng(2).normal(size=(9, 3))
    mapped = np.stack([source.position_from_canonical(place)[:, c] * f for c, f, _ in found.position], axis=1)
    assert np.allclose(mapped, target.position_from_canonical(place))
    if a == b:
        assert found.rotation == tuple((i, 1.0, 0.0) for i in range(3))


def test_profile_commands(tmp_path: Path, bad: Path) -> None:
    assert len(said("profile", "list", "--json")) == len(SHIPPED_KEYS)
    assert said("profile", "show", "zup-lh-cm")["key"] == "zup-lh-cm"
    assert "2 habits" in run("profile", "check", bad).stdout
    mapped = said("profile", "map", "yup-lh-cm", "yup-rh-unit", "--json")
    assert mapped["rotation_deg"][0] == {"from": "x", "factor": -1.0, "add": 0.0} and mapped["scale"] == pytest.approx(
        0.01
    )
    assert mapped["camera_offset_deg"] is None and mapped["rotation_order"] == "ZXY"
    turned = said("profile", "map", "yup-rh-m", "zup-rh-m", "--json")
    assert turned["camera_offset_deg"] is None and turned["rotation_order"] == "XZY"
    assert turned["rotation_deg"][0] == {"from": "x", "factor": 1.0, "add": 90.0}
    words = run("profile", "map", "yup-rh-cm", "zup-lh-cm").stdout
    assert "Set the rotation order to XZY there" in words
    assert "the camera's own rotation stays X 0°, Y 0°, Z -90°" in words
    assert main is not None


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (("arrive", "NONE.usd", "--profile", "zup-lh-cm"), "There is no file"), (("arrive", "TORN", "--profile", "zup-lh-cm"), "torn.usd"),
        (("proof", "GOOD", "NONE.usd"), "There is no file"), (("transfer", "GOOD", "--to", "zup-lh-cm", "--format", "scroll", "--out", "OUT"), "is not a format Anaxis writes"),
        (("calibrate", "finish", "TORN", "--key", "x", "--out", "OUT"), "not readable JSON"), (("profile", "check", "GOOD"), "cannot be read as a profile"),
        (("arrive", "OUTSIDE", "--profile", "zup-lh-cm"), "Flatten it"),
    ],
)  # fmt: skip
def test_bad_input_is_one_sentence(
    args: tuple[str, ...], words: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    torn, outside = tmp_path / "torn.usd", tmp_path / "outside.usda"
    torn.write_bytes(b"PXR-USDC broken off")
    outside.write_text(
        '#usda 1.0\n(upAxis = "Y"\n metersPerUnit = 1\n timeCodesPerSecond = 24\n)\ndef "set" (references = @/etc/secret.usda@</x>) {}\ndef Camera "c" {}\n'
    )
    named = {"GOOD": demo_files["TW_010"], "TORN": torn, "OUTSIDE": outside, "OUT": tmp_path / "out"}
    result = run(*(named.get(a, a) for a in args))
    assert result.returncode == 2 and words in result.stderr and "Traceback" not in result.stderr, result


def test_cameras_together_below_a_root_and_each_alone(tmp_path: Path) -> None:
    """A file with three cameras: two of them in one file, and a file each where a format holds one."""
    from pxr import Usd, UsdGeom

    source = tmp_path / "mill.usda"
    stage = Usd.Stage.CreateNew(str(source))
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(24)
    for k, name in enumerate(("race", "wheel", "loft")):
        camera = UsdGeom.Camera.Define(stage, f"/set/{name}")
        op = camera.AddTranslateOp()
        for frame in range(1, 9 + k):
            op.Set((10.0 * frame, 100 + k, 300), frame)
        camera.CreateFocalLengthAttr(30.0 + k)
    stage.Save()
    args = (
        "transfer",
        source,
        "--to",
        "zup-lh-cm",
        "--to",
        "yup-rh-m",
        "--camera",
        "race",
        "--camera",
        "/set/loft",
        "--allow",
        "default_lens,guessed_up_axis",
    )
    done = said(
        *args, "--format", "usd,dae,json", "--together", "--under-root", "--bundle", "--out", tmp_path / "a", "--json"
    )
    assert len(done["deliveries"]) == 12 and done["proof"]["max_px"] <= 0.01
    assert {d["camera"] for d in done["deliveries"]} == {"/set/race", "/set/loft"}
    names = sorted(p.name for p in (tmp_path / "a").glob("*.zup-lh-cm*"))
    assert names == ["mill.loft.zup-lh-cm.track.json", "mill.race.zup-lh-cm.track.json", "mill.zup-lh-cm.dae", "mill.zup-lh-cm.usd", "mill.zup-lh-cm.zip"]  # fmt: skip
    found = said("inspect", tmp_path / "a" / "mill.zup-lh-cm.usd", "--json")["cameras"]
    assert [c["path"] for c in found] == ["/race_root/race", "/loft_root/loft"]
    with zipfile.ZipFile(tmp_path / "a" / "mill.zup-lh-cm.zip") as bundle:
        assert {"race/transfer_sheet.pdf", "loft/transfer_sheet.pdf", "camera/mill.zup-lh-cm.usd"} <= set(
            bundle.namelist()
        )
        assert [c["camera"] for c in json.loads(bundle.read("manifest.json"))["cameras"]] == ["race", "loft"]
    seen = said("arrive", tmp_path / "a" / "mill.zup-lh-cm.usd", "--profile", "zup-lh-cm", "--camera", "loft", "--json")
    assert len(seen["frames"]) == 10
    wrong = run("arrive", tmp_path / "a" / "mill.zup-lh-cm.usd", "--profile", "zup-lh-cm", "--camera", "attic")
    assert "holds no camera 'attic': choose one of race, loft" in wrong.stderr
    apart = said(*args, "--format", "usd", "--out", tmp_path / "b", "--json")
    assert sorted(Path(f).name for f in apart["files"])[0] == "mill.loft.yup-rh-m.usd" and len(apart["files"]) == 4


def test_a_table_under_other_headings_is_in_the_packages_own_numbers(
    demo_files: dict[str, Path], tmp_path: Path
) -> None:
    """What stands in it is compared as it stands: no unit or axes are guessed that would make a mistake of scale vanish."""
    values = said("values", demo_files["TW_020"], "--to", "yup-rh-m", "--json")["frames"]
    rows = ["# typed off the package", "frame;x;y;z;rot_x;rot_y;rot_z"]
    for v in values[:60]:
        numbers = [v["frame"], *(100 * p for p in v["position"]), *v["rotation_deg"]]
        rows.append(";".join(f"{n:.9g}" for n in numbers))
    back = tmp_path / "typed_off.csv"
    back.write_text("\n".join(rows) + "\n")
    found = said("diagnose", demo_files["TW_020"], back, "--profile", "yup-rh-m", "--json")
    assert found["explained"]
    causes = {c["code"]: c for c in found["explanations"][0]["causes"]}
    assert causes["scale"]["factor"] == 100 and set(causes) == {"scale", "first_keys"}
    result = run("proof", demo_files["TW_020"], back)
    assert "package: name the package with --profile" in result.stderr + result.stdout


@pytest.mark.parametrize("moves", [False, True])
@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("timeCodesPerSecond = 24", "timeCodesPerSecond = 30"), "another: frame rate: 24 a second meant, 30 there"),
        (("(10, 10000)", "(50, 6000)"), "another: near clip: 0.1 m meant, 0.5 m there"),
        (("focusDistance = 400", "focusDistance = 30"), "another: focus distance: 4 m meant, 0.3 m there"),
    ],
)
def test_a_diagnosis_says_what_is_another_beside_pose_and_lens(
    change: tuple[str, str], said: str, moves: bool, usda: Callable[..., Path]
) -> None:
    lens = "float focalLength = 35\n float horizontalAperture = 36\n float verticalAperture = 20.25\n float focusDistance = 400\n float2 clippingRange = (10, 10000)"
    ops = (
        ""
        if moves
        else 'double3 xformOp:translate = (0, 10, 300)\n uniform token[] xformOpOrder = ["xformOp:translate"]'
    )
    meant = usda(lens=lens, ops=ops)
    back = meant.with_name("back.usda")
    back.write_text(meant.read_text().replace(*change))
    assert back.read_text() != meant.read_text()
    told = run("diagnose", meant, back)
    assert told.returncode == 0 and said in told.stdout
    assert run("proof", meant, back).returncode == 3
    same = run("diagnose", meant, meant)
    assert "Pose, lens and frames match the expected camera" in same.stdout and "another" not in same.stdout
