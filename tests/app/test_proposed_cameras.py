"""Helpers and copies are left out by themselves, each with its reason; another file under an old name is told."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Engine

from anaxis.app.cameras.proposed import changed_inside, left_out
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.formats import read_file
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import look
from anaxis.store.models import SourceFile
from test_store import keep

HEAD = 'upAxis = "Y"\n metersPerUnit = 0.01\n timeCodesPerSecond = 24\n startTimeCode = 1\n endTimeCode = 10'
LENS = "float focalLength = 35\n float horizontalAperture = 36\n float verticalAperture = 20.25"
MOVE = "{ 1: (0, 10, 300), 10: (50, 20, 250) }"
DENSE = (
    "{ "
    + ", ".join(f"{f}: ({50 * (f - 1) / 9}, {10 + 10 * (f - 1) / 9}, {300 - 50 * (f - 1) / 9})" for f in range(1, 11))
    + " }"
)


def camera(name: str, samples: str) -> str:
    ops = (
        f'double3 xformOp:translate.timeSamples = {samples}\n uniform token[] xformOpOrder = ["xformOp:translate"]'
        if samples
        else ""
    )
    return f'def Camera "{name}" {{\n {LENS}\n {ops}\n}}\n'


def written(path: Path, *cameras: str) -> Path:
    path.write_text(f"#usda 1.0\n(\n {HEAD}\n)\n" + "".join(cameras))
    return path


def reasons(path: Path) -> dict[str, str]:
    return left_out(look(scene_to_bytes(read_file(path)), {}))


def test_of_copies_the_one_with_most_samples_stays_and_helpers_go(tmp_path: Path) -> None:
    path = written(
        tmp_path / "a.usda", camera("keys", MOVE), camera("baked", DENSE), camera("baked_again", DENSE), camera("witness", "{ 1: (5, 5, 5) }"),
        camera("persp", ""), camera("other", "{ 1: (0, 90, 300), 10: (-50, 20, 250) }"),
    )  # fmt: skip
    found = reasons(path)
    assert set(found) == {"/keys", "/baked_again", "/witness", "/persp"}
    assert found["/keys"] == "an exact copy of /baked" and found["/witness"] == "is still while another camera moves"


def test_one_camera_of_two_equal_ones_stays_and_a_still_shot_is_no_helper(tmp_path: Path) -> None:
    assert reasons(written(tmp_path / "a.usda", camera("one", MOVE), camera("two", MOVE))) == {
        "/two": "an exact copy of /one"
    }
    assert (
        reasons(written(tmp_path / "b.usda", camera("one", "{ 1: (5, 5, 5) }"), camera("two", "{ 1: (9, 9, 9) }")))
        == {}
    )


def test_a_file_of_an_old_name_with_other_cameras_is_told(tmp_path: Path, engine: Engine) -> None:
    first = written(tmp_path / "TW_010.usda", camera("shotcam", MOVE))
    with Context(engine, LOCAL) as store, store.begin():
        version = keep(store, first, "TW_010")
        show = version.camera.shot.show.name

        def said(path: Path) -> str:
            source = SourceFile(name="TW_010.usda", sha256="f" * 64)
            return changed_inside(store, source, read_file(path), show, "TW_010")

        assert said(first) == ""
        other = written(tmp_path / "other.usda", camera("witness_cam", MOVE))
        assert "with shotcam; this file has witness_cam" in said(other)
        assert changed_inside(store, SourceFile(name="x.usda", sha256="f" * 64), read_file(other), show, "TW_010") == ""
