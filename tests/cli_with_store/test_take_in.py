"""Many files taken in by their names: new, newer, older, the same again and bad ones, each told apart and none stopping the rest."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import time
import zipfile
from pathlib import Path
from typing import Any

import psutil
import pytest
from sqlalchemy import Engine, func, select

from anaxis.app.cameras.file_names import Named, named
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.program import anaxis_command
from anaxis.queue.jobs import address_of
from anaxis.store.keep import save_recipe
from anaxis.store.models import Camera, SourceFile, Version
from anaxis.store.queries import find_shot
from shell import Ran, run
from tracker_files import SMALL_PAN_LAYOUT, write_small_pan


@pytest.fixture
def folder(tmp_path: Path, demo_files: dict[str, Path]) -> Path:
    """Three shots of two files' kinds, a file that is none, and one beside them that is not a camera file at all."""
    for shot, of in (("MI_010", "TW_010"), ("MI_020", "TW_020"), ("MI_030", "TW_010")):
        shutil.copy(demo_files[of], tmp_path / f"{shot}_layout_v002{demo_files[of].suffix}")
    (tmp_path / "MI_040_layout_v001.usda").write_text("#usda 1.0\n(broken")
    (tmp_path / "notes.txt.bak").write_text("not a camera")
    return tmp_path


@pytest.fixture
def said(engine: Engine, monkeypatch: pytest.MonkeyPatch) -> Any:
    monkeypatch.setenv("DATABASE_URL", address_of(engine))

    def command(*words: object, code: int = 0) -> dict[str, Any]:
        done = run("take-in", *words, "--json")
        assert done.returncode == code, done.stderr + done.stdout
        return json.loads(done.stdout) if done.stdout.startswith("{") else {"refused": done.stderr}

    return command


def states(document: dict[str, Any]) -> dict[str, str]:
    return {Path(f["file"]).name[:6]: f["state"] for f in document["files"]}


def test_a_folder_is_kept_by_its_names_and_told_apart_the_next_time(said: Any, folder: Path, engine: Engine) -> None:
    dry = said(folder, "--show", "The mill", "--dry-run", code=2)
    assert states(dry) == {"MI_010": "new", "MI_020": "new", "MI_030": "new", "MI_040": "cannot be taken in"}
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(Camera)).scalar_one() == 0 and dry["kept"] == 0
        assert store.execute(select(func.count()).select_from(SourceFile)).scalar_one() == 0, "nothing is left of it"
    first = said(folder, "--show", "The mill", code=2)
    assert first["kept"] == 3 and first["counts"] == {"new": 3, "cannot be taken in": 1}
    bad = next(f for f in first["files"] if f["state"] == "cannot be taken in")
    assert "MI_040_layout_v001.usda" in bad["said"] and "Traceback" not in bad["said"]
    assert states(said(folder / "*_v002.*"))["MI_010"] == "same again", "the show is the one worked in last"
    for version in (1, 3):  # an older and a newer file of a shot
        made = (folder / "MI_010_layout_v002.usda").read_text().replace("#usda 1.0", f"#usda 1.0\n# v{version}", 1)
        (folder / f"MI_010_layout_v00{version}.usda").write_text(made)
    assert states(said(folder / "MI_010_layout_v001.usda", code=4)) == {"MI_010": "older"}
    assert states(said(folder / "MI_010_layout_v003.usda")) == {"MI_010": "newer take"}
    with Context(engine, LOCAL) as store:
        shot = find_shot(store, "The mill", "MI_010")
        assert shot is not None and [v.label for v in shot.cameras[0].versions] == ["1", "2"]
        assert store.execute(select(func.count()).select_from(Camera)).scalar_one() == 3


def test_a_rule_a_recipe_and_remedies_hold_for_all(
    said: Any, tmp_path: Path, demo_files: dict[str, Path], engine: Engine
) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        moved = Operation("shift", {"x_m": 2.0, "y_m": 0.0, "z_m": 0.0})
        # the remedy itself is in the recipe too: it is not done twice
        save_recipe(store, "to the mill", (Operation("lens_factor", {"what": "lens", "factor": 0.01}), moved))
    reel = tmp_path / "Second reel" / "R2_0100"
    reel.mkdir(parents=True)
    file = shutil.copy(demo_files["TW_040"], reel / f"cam_final_012{demo_files['TW_040'].suffix}")
    refused = said(file, "--rule", "{shot}_{nothing}", code=2)["refused"]
    assert "'{nothing}' is not a field" in refused
    other = said(file, "--rule", "{shot}_v{version}", "--show", "x", code=2)
    assert "does not match the rule" in other["files"][0]["said"]
    rule = ("--rule", "{show}/{shot}/*_{version}")
    found = said(file, *rule, "--dry-run")["files"][0]
    assert (found["show"], found["shot"], found["version"]) == ("Second reel", "R2_0100", 12)
    (code,) = found["remedies"]
    kept = said(file, *rule, "--recipe", "to the mill", "--accept", code)
    assert kept["kept"] == 1
    with Context(engine, LOCAL) as store:
        version = store.execute(select(Version)).scalar_one()
        assert len(version.recipe) == 2 and code not in {f["code"] for f in version.findings}
        assert version.camera.shot.show.name == "Second reel"
    again = reel / f"cam_final_013{demo_files['TW_040'].suffix}"
    again.write_bytes(demo_files["TW_030"].read_bytes())
    unknown = said(again, *rule, "--recipe", "none", code=2)["files"][0]
    assert unknown["state"] == "cannot be taken in" and "'none'" in unknown["said"]
    assert "no camera files found" in said(tmp_path / "nowhere", code=2)["refused"]


@pytest.mark.parametrize(
    ("name", "rule", "meant"),
    [
        ("TW_010_camera_v003.usd", "", Named("", "TW_010", "", 3)),
        ("walk.usd", "", Named("", "walk", "", None)),
        ("a/b/TW010-shotcam.v12.abc", "{shot}-{camera}.v{version}", Named("", "TW010", "shotcam", 12)),
        ("mill/sq10/sh 20/cam_v1.usd", "{show}/*/{shot}/*_v{version}", Named("mill", "sh 20", "", 1)),
        ("x(1)_v2.usd", "{shot}(1)_v{version}", Named("", "x", "", 2)),
    ],
)
def test_a_rule_takes_names_apart(name: str, rule: str, meant: Named) -> None:
    assert named(name, rule) == meant


@pytest.mark.parametrize("rule", ["{camera}_v{version}", "{shot}{shot}", "{}", "{shot", "x" * 300])
def test_a_rule_that_says_nothing_is_refused(rule: str) -> None:
    with pytest.raises(BadInput):
        named("TW_010_v1.usd", rule)


def test_several_files_are_transferred_with_one_answer_and_the_gravest_exit_code(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    (tmp_path / "broken.usda").write_text("#usda 1.0\n(broken")
    files = [demo_files["TW_010"], tmp_path / "broken.usda", demo_files["TW_020"], demo_files["TW_040"]]

    def transfer(*words: object) -> Ran:
        return run("transfer", *words, "--to", "zup-lh-cm", "--format", "json", "--out", tmp_path / "out")

    done = transfer(*files, "--jobs", "2", "--json")
    told = json.loads(done.stdout)
    assert done.returncode == told["exit"] == 2
    assert [Path(f["file"]).name for f in told["files"]] == [f.name for f in files], "in the order given"
    assert [f["exit"] for f in told["files"]] == [0, 2, 0, 4] and "broken.usda" in told["files"][1]["said"]
    assert told["worst_px"] == max(f["result"]["proof"]["max_px"] for f in told["files"] if "result" in f) < 0.01
    assert len(list((tmp_path / "out").iterdir())) == 3
    again = transfer(files[0], files[2])  # the files are there: none is replaced without being told to
    assert again.returncode == 2 and again.stderr.count("--force") == 2
    table = transfer(files[0], files[3], "--force", "--allow", "sensor_factor")
    assert table.returncode == 0 and table.stdout.count("matches") == 2
    shutil.copy(files[0], tmp_path / files[0].name)
    alike = transfer(files[0], tmp_path / files[0].name)
    assert alike.returncode == 2 and "Several files are named TW_010" in alike.stderr
    named = transfer(files[0], files[2], "--name", "X")
    assert named.returncode == 2 and "--name names the shot of one file" in named.stderr


def test_a_zip_of_many_is_opened_and_stays_whole_where_that_is_said(said: Any, folder: Path, tmp_path: Path) -> None:
    packed = tmp_path / "out" / "evening.zip"
    packed.parent.mkdir()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as out:
        for file in folder.glob("MI_0[12]0*"):
            out.write(file, f"layout/{file.name}")
        out.writestr("layout/notes.md", "not a camera")
    found = said(packed, "--show", "The mill", "--dry-run")
    assert states(found) == {"MI_010": "new", "MI_020": "new"}
    assert all(f["file"].startswith(f"{packed}/layout/MI_0") for f in found["files"])
    whole = said(packed, "--show", "The mill", "--dry-run", "--whole-zips")
    assert [Path(f["file"]).name for f in whole["files"]] == ["evening.zip"]
    assert "more_files" in whole["files"][0]["findings"], "and that the other is left out is said"


def test_a_watched_folder_is_gone_on_with_and_a_half_written_file_waits(
    folder: Path, tmp_path: Path, engine: Engine
) -> None:
    watched = tmp_path / "in"
    watched.mkdir()
    first, second = sorted(folder.glob("MI_0[12]0*"))
    shutil.copy(first, watched)
    call = anaxis_command("take-in", str(watched), "--show", "Mill")
    environment = {**os.environ, "DATABASE_URL": address_of(engine)}
    with subprocess.Popen(
        [*call, "--watch", "--json"], stdout=subprocess.PIPE, text=True, env=environment,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # which a shell's background work ignores
    ) as watching:  # fmt: skip
        assert watching.stdout is not None
        try:
            assert json.loads(watching.stdout.readline())["state"] == "new"
            data = second.read_bytes()
            with (watched / second.name).open("wb") as out:
                for at in range(0, len(data), len(data) // 3 + 1):  # for longer than one look
                    out.write(data[at : at + len(data) // 3 + 1])
                    out.flush()
                    time.sleep(0.8)
            told = json.loads(watching.stdout.readline())
        finally:
            watching.send_signal(signal.SIGINT)
    assert (told["state"], told["shot"], watching.returncode) == ("new", "MI_020", 0), told
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(Camera)).scalar_one() == 2


def test_files_of_one_shot_are_taken_in_one_after_the_other_and_shots_at_once(
    said: Any, demo_files: dict[str, Path], tmp_path: Path, engine: Engine
) -> None:
    source = demo_files["TW_010"]
    for shot in ("MI_010", "MI_020", "MI_030", "MI_040"):
        for version in range(1, 5):
            text = source.read_text() + f"# {shot} {version}\n"
            (tmp_path / f"{shot}_layout_v{version:03}{source.suffix}").write_text(text)
    found = said(tmp_path, "--show", "The mill", "--jobs", "4")
    assert [Path(f["file"]).name for f in found["files"]] == sorted(p.name for p in tmp_path.iterdir())
    assert [f["state"] for f in found["files"]] == ["new", *["newer take"] * 3] * 4
    with Context(engine, LOCAL) as store:
        assert [c.head.number for c in store.execute(select(Camera)).scalars() if c.head] == [4] * 4


def test_a_table_of_two_readings_is_kept_by_its_layout(said: Any, tmp_path: Path, engine: Engine) -> None:
    table, layout = write_small_pan(tmp_path / "MI_050_cam_v001.csv"), tmp_path / "columns.json"
    layout.write_text(json.dumps(SMALL_PAN_LAYOUT))
    asked = said(table, "--show", "The mill", code=2)
    assert "can be read in 2 ways" in asked["files"][0]["said"] and not asked["kept"]
    assert said(table, "--show", "The mill", "--columns", layout)["kept"] == 1
    with Context(engine, LOCAL) as store:
        assert store.execute(select(SourceFile.layout)).scalar_one() == SMALL_PAN_LAYOUT


def test_the_readers_of_a_killed_command_end_with_it_and_the_next_one_goes_on(
    engine: Engine, demo_files: dict[str, Path], tmp_path: Path, said: Any
) -> None:
    shot = demo_files["TW_020"]
    for n in range(30):
        shutil.copy(shot, tmp_path / f"MI_{n:03}_layout_v001{shot.suffix}")
    environment = {**os.environ, "DATABASE_URL": address_of(engine)}
    command = anaxis_command("take-in", str(tmp_path), "--show", "The mill")
    process = psutil.Process(subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL).pid)
    deadline = time.monotonic() + 60
    kept = 0
    while kept < 3 and time.monotonic() < deadline:
        with Context(engine, LOCAL) as store:
            kept = store.execute(select(func.count()).select_from(Version)).scalar_one()
    readers = process.children(recursive=True)
    process.kill()
    assert readers and 3 <= kept < 30
    _, alive = psutil.wait_procs([process, *readers], timeout=30)
    assert not alive
    done = said(tmp_path, "--show", "The mill")
    assert sorted({f["state"] for f in done["files"]}) == ["new", "same again"]
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(Version)).scalar_one() == 30, "each once"
