"""``import anaxis`` as another person's program uses it: its names, weight and examples, and the same bytes as the command line."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest

import anaxis
import cut
from anaxis.core.recipe.operations import KINDS
from anaxis.core.scene.picture import Picture
from lanes import sized
from ordinary import SHOTS, landmarks_of_shot, track_of
from shell import run

ROOT = Path(__file__).parents[2]


def in_another_process(program: str) -> str:
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    return done.stdout


def test_the_names_are_those_in_the_documents_and_each_is_there() -> None:
    reference = (ROOT / "docs" / "library-reference.md").read_text()
    listed = re.findall(r"^## `(\w+)", reference, re.M)
    assert sorted(listed) == sorted(n for n in anaxis.__all__ if not n.startswith("_"))
    assert len(anaxis.__all__) <= 25 and set(dir(anaxis)) >= set(anaxis.__all__)
    assert all(getattr(anaxis, name) is not None for name in anaxis.__all__)
    with pytest.raises(AttributeError, match="no attribute 'cameras'"):
        _ = anaxis.cameras


@pytest.mark.parametrize("script", ["document_library", "write_operations"])
def test_what_is_generated_is_up_to_date(script: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(str(ROOT / "scripts"))
    module: Any = __import__(script)
    made = module.document() if script == "document_library" else module.module()
    told = module.TARGET.read_text()
    assert "".join(told.split()) == "".join(made.split()), f"run scripts/{script}.py"


def test_the_import_is_light_and_needs_no_server() -> None:
    loaded = in_another_process("import sys, anaxis; print(*sys.modules)").split()
    assert not {"numpy", "pydantic", "sqlalchemy", "fastapi", "pxr"} & set(loaded)
    program = "import sys, anaxis; anaxis.read, anaxis.write, anaxis.compare, anaxis.join, anaxis.calibrate; print(*sys.modules)"
    loaded = in_another_process(program).split()
    assert not {"sqlalchemy", "psycopg", "fastapi", "starlette", "procrastinate", "anaxis.store", "anaxis.web"} & set(
        loaded
    )


def test_every_example_of_the_page_runs(
    demo_files: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name, path in demo_files.items():
        shutil.copy(path, tmp_path / f"{name}.usda")
    cut.make_cut(tmp_path / "reel_1.otio")
    # The edit has a third shot, whose camera is the first's here.
    edit = (tmp_path / "reel_1.otio").read_text()
    cv2.imwrite(str(tmp_path / "engine.png"), np.full((1080, 1920, 3), 200, np.uint8))
    monkeypatch.chdir(tmp_path)
    page = (ROOT / "docs" / "library.md").read_text()
    blocks = re.findall(r"(?:^    .*\n|^\n(?=    ))+", page, re.M)
    names: dict[str, Any] = {"other": anaxis.read("TW_030.usda").camera}
    assert edit
    for block in blocks:
        code = "\n".join(line[4:] for line in block.splitlines())
        exec(compile(code, "docs/library.md", "exec"), names)
    assert names["back"].matches and all(one.matches for one in names["both"]) and not names["wrong"]
    assert [code for cause in names["found"].explanations[0].causes for code in cause[:1]] == ["film_factor"]
    assert names["joined"].frames[0] == 1001 and {len(v) for v in names["values"].values()} == {120}


@pytest.fixture
def shot_file(tmp_path: Path) -> Callable[..., Path]:
    """Writes an ordinary shot as a file in some format, in metres and Y up, by the product's own writer."""

    def make(name: str, format_key: str = "usd") -> Path:
        from anaxis.core.camera.lens import Image
        from anaxis.delivery.deliver import deliver
        from anaxis.delivery.options import DeliveryOptions
        from anaxis.packages import find_profile

        shot = SHOTS[name]()
        picture = Picture(Image(shot.width_px, shot.height_px), "width", False, False)
        folder = tmp_path / "source" / format_key
        folder.mkdir(parents=True, exist_ok=True)
        track, marks, options = track_of(shot), landmarks_of_shot(shot), DeliveryOptions(first=float(shot.frames[0]))
        done = deliver(track, marks, picture, find_profile("yup-rh-m"), format_key, folder, options)
        return done.files[0]

    return make


ORDINARY = [n for n in SHOTS if n != "long"]


@pytest.mark.parametrize("name", ORDINARY)
def test_an_ordinary_shot_is_written_as_the_command_line_writes_it(
    name: str, shot_file: Callable[..., Path], tmp_path: Path
) -> None:
    file, shot = shot_file(name), SHOTS[name]()
    camera = anaxis.read(file).camera.with_picture(shot.width_px, shot.height_px, fit="width")
    every = ("usd", "alembic", "gltf", "collada", "json", "columns")
    formats = every if name == "whip" else sized(every, ("usd", "json"))
    size = ["--resolution", f"{shot.width_px}x{shot.height_px}", "--source-fit", "width"]
    mine, theirs, done = tmp_path / "mine", tmp_path / "theirs", []
    for key in formats:
        told = run("transfer", file, "--to", "zup-lh-cm", "--format", key, "--out", theirs, "--force", *size)
        try:
            done.append(camera.write("zup-lh-cm", key, mine))
        except anaxis.BadInput as error:  # the command line says the same
            assert told.returncode == 2 and error.sentence.split(":")[0] in told.stderr
    assert {p.name: p.read_bytes() for p in mine.iterdir()} == {p.name: p.read_bytes() for p in theirs.iterdir()}
    assert done and all(one.matches for one in done if one.format != "gltf")
    # Against the shot's own sums, which know nothing of the product.
    values, whole = camera.values("yup-rh-m"), shot.frames[shot.frames == np.round(shot.frames)]
    assert np.array_equal(whole, values["frame"])
    place = shot.at(values["frame"])[0]
    assert np.abs(np.stack([values[a] for a in "xyz"], axis=1) - place).max() < 1e-3
    assert values["frame"].dtype == np.float64 and values.unit == "m"


def test_every_operation_is_reached_by_its_name(demo_files: dict[str, Path]) -> None:
    camera = anaxis.read(demo_files["TW_020"]).camera
    given: dict[str, dict[str, Any]] = {
        "trim": {"first": 20, "last": 60}, "focal": {"focal_mm": 50.0}, "rate": {"rate": "24", "keep": "time"}, "renumber": {"first": 1001},
        "shift": {"x_m": 1.0, "y_m": 0.0, "z_m": 0.0}, "film_back": {"width_mm": 30.0, "height_mm": 20.0}, "near_plane": {"near_m": 0.5},
        "handles": {"head": 4, "way": "hold"}, "lens_curve": {"channel": "stop", "way": "set to", "value": 4.0}, "level_horizon": {},
    }  # fmt: skip
    for code, params in given.items():
        made = camera.apply(code, **params)  # type: ignore[call-overload]  # a code that only the registry knows
        assert [o["code"] for o in made.recipe] == [code] and len(made.frames)
        assert camera.recipe == [], "a camera never changes"
    with pytest.raises(anaxis.BadInput, match="no parameter 'frist'") as caught:
        camera.apply("trim", frist=3)  # type: ignore[call-overload]
    assert caught.value.code == "bad_parameter"
    with pytest.raises(anaxis.BadInput, match="not an operation"):
        camera.apply("trimm")  # type: ignore[call-overload]
    assert len(KINDS) > 30


def test_what_cannot_be_is_one_sentence_and_nothing_is_written(demo_files: dict[str, Path], tmp_path: Path) -> None:
    camera = anaxis.read(demo_files["TW_010"]).camera
    out = tmp_path / "out"
    for wrong, said in (
        ({"overscn": "10%"}, "did you mean 'overscan'"), ({"samples": 0}, "0 samples for each frame"), ({"reduce_px": -1}, "px"), ({"set_formats": "fbx"}, "not a set format"),
    ):  # fmt: skip
        with pytest.raises(anaxis.BadInput, match=re.escape(said)):
            camera.write("zup-lh-cm", "usd", out, **wrong)
    for package, key in (("zup-lh", "usd"), ("zup-lh-cm", "mov")):
        with pytest.raises(anaxis.BadInput):
            camera.write(package, key, out)
    assert not out.exists() or not any(out.iterdir())
    camera.write("zup-lh-cm", "usd", out)
    with pytest.raises(anaxis.BadInput, match="already exists"):
        camera.write("zup-lh-cm", "usd", out)
    (tmp_path / "broken.usda").write_text("#usda 1.0\ndef Camera {")
    for name in ("broken.usda", "missing.usda", "notes.txt"):
        with pytest.raises(anaxis.BadInput):
            anaxis.read(tmp_path / name)


def test_a_camera_that_came_back_is_explained(demo_files: dict[str, Path], tmp_path: Path) -> None:
    camera = anaxis.read(demo_files["TW_020"]).camera
    late = camera.apply("renumber", first=camera.frames[0] + 3).write("yup-rh-m", "usd", tmp_path)
    found = anaxis.compare(camera, late.files[0])
    assert not found.matches and found.explained and "3 frames" in found.explanation
    assert found.document()["explanations"][0]["sentence"] == found.explanation
    told = run("diagnose", demo_files["TW_020"], late.files[0], "--json").document
    assert found.document() == told


def test_the_set_of_another_file_and_a_layer_beside_it(demo_files: dict[str, Path], tmp_path: Path) -> None:
    (tmp_path / "quay.obj").write_text("o quay\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1 2 3 4\n")
    camera = anaxis.read(demo_files["TW_010"]).camera.with_set(tmp_path / "quay.obj", "Y", 1.0)
    done = camera.write("zup-lh-cm", "usd", tmp_path / "out", bundle=True, set_formats="obj")
    assert done.bundle is not None and done.bundle.suffix == ".zip"
    assert run("inspect", demo_files["TW_010"], "--json").document == anaxis.read(demo_files["TW_010"]).document()
    shutil.copy(demo_files["TW_010"], tmp_path / "rig.usda")
    (tmp_path / "shot.usda").write_text("#usda 1.0\n(\n subLayers = [@./rig.usda@]\n)\n")
    alone = anaxis.read(tmp_path / "shot.usda")
    assert len(alone) == 0
    layered = anaxis.read(tmp_path / "shot.usda", within=tmp_path)
    assert np.array_equal(layered.camera.position_m, anaxis.read(demo_files["TW_010"]).camera.position_m)
    (tmp_path / "inner").mkdir()
    (tmp_path / "inner" / "shot.usda").write_text("#usda 1.0\n(\n subLayers = [@../rig.usda@]\n)\n")
    outside = anaxis.read(tmp_path / "inner" / "shot.usda", within=tmp_path / "inner")
    assert len(outside) == 0, "nothing outside the folder is opened"
