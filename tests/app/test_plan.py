"""A show's plan and its runs: what is owed is told right, done once, by anybody, and taken up where it was left."""

from __future__ import annotations

import hashlib
import io
import json
import os
import re
import signal
import subprocess
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import httpx
import pytest
from playwright.sync_api import Page, expect
from pxr import Sdf, Usd, UsdGeom
from sqlalchemy import Engine, event, func, select, text, update

from anaxis.app.cameras.edit import copy_camera, edit_version
from anaxis.app.cameras.uploads import clear_uploads
from anaxis.app.context import Context
from anaxis.app.everything import everything_of_run, everything_of_show, sent_as_zip
from anaxis.app.packages import copy_package
from anaxis.app.retention import clear_out, kept
from anaxis.app.roles import LOCAL
from anaxis.app.shows.plan import board, due, progress_of, resume_run, set_target, start_run, stop_run, workers
from anaxis.app.shows.remove import remove_camera
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages import find_profile
from anaxis.program import anaxis_command
from anaxis.queue.jobs import OPEN, TryAgain, address_of
from anaxis.store.content_rows import Content
from anaxis.store.keep import keep_package, save_recipe, stage_file
from anaxis.store.models import Delivery, DeliveryFile, Job, MadeFile, Run, Show, SourceFile, Version
from anaxis.store.packages import get_package
from anaxis.store.queries import get_version
from anaxis.worker.attempt import do_job
from jobs import wait_for
from ordinary import primes, track_of
from pages import Visitor, fits
from shell import run
from test_store import keep

PACKAGE = "zup-lh-cm"
MOVED = Operation("shift", {"x_m": 2.0, "y_m": 0.0, "z_m": 0.0})


@pytest.fixture
def shots(engine: Engine, demo_files: dict[str, Path]) -> list[int]:
    """Two shots with a camera each, kept; the numbers of their cameras."""
    return [kept_as(engine, demo_files[n], n) for n in ("TW_010", "TW_020")]


def kept_as(engine: Engine, path: Path, shot: str) -> int:
    with Context(engine, LOCAL) as store, store.begin():
        return keep(store, path, shot).camera_id


def show_of(store: Context) -> Show:
    return store.execute(select(Show)).scalar_one()


def planned(engine: Engine, *formats: str, to: str = PACKAGE, **more: Any) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        for key in formats:
            set_target(store, show_of(store), to, key, **more)


def states(engine: Engine) -> list[list[str]]:
    with Context(engine, LOCAL) as store:
        return [[c.state for c in r.cells] for r in board(store, show_of(store)).rows]


def whys(engine: Engine) -> str:
    with Context(engine, LOCAL) as store:
        return " | ".join(c.why for r in board(store, show_of(store)).rows for c in r.cells)


def begin(engine: Engine, **more: Any) -> int:
    with Context(engine, LOCAL) as store, store.begin():
        return start_run(store, show_of(store), **more).id


def jobs(engine: Engine, run: int) -> list[Job]:
    with Context(engine, LOCAL) as store:
        return list(store.execute(select(Job).where(Job.run_id == run).order_by(Job.id)).scalars())


def work_off(engine: Engine, run: int) -> None:
    for job in jobs(engine, run):
        with suppress(TryAgain):  # the pages' own worker is at it
            do_job(engine, job.id)
    wait_for(lambda: all(job.state not in OPEN for job in jobs(engine, run)), 60)


def deliveries(engine: Engine) -> int:
    with Context(engine, LOCAL) as store:
        return store.execute(select(func.count()).select_from(Delivery)).scalar_one()


@contextmanager
def counted(engine: Engine) -> Iterator[list[str]]:
    asked: list[str] = []

    def count(_c: Any, _cursor: Any, statement: str, *_: Any) -> None:
        asked.append(statement)

    event.listen(engine, "before_cursor_execute", count)
    try:
        yield asked
    finally:
        event.remove(engine, "before_cursor_execute", count)


def test_what_is_owed_is_delivered_and_told_to_be_behind_by_every_change(engine: Engine, shots: list[int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        copy_package(store, PACKAGE, "The mill", "mill")
    planned(engine, "json", to="mill")
    assert states(engine) == [["missing"], ["missing"]]
    run = begin(engine)
    assert states(engine) == [["running"], ["running"]]
    work_off(engine, run)
    assert states(engine) == [["matches"], ["matches"]] and deliveries(engine) == 2
    with pytest.raises(BadInput, match="Nothing to deliver for The Tidewright"):
        begin(engine)
    with Context(engine, LOCAL) as store, store.begin():  # an edit of one of them
        edit_version(store, get_version(store, shots[1]), (MOVED,), "twice as large")
    assert states(engine) == [["matches"], ["outdated"]] and "version 1 was delivered, version 1.1 is current" in whys(
        engine
    )
    work_off(engine, begin(engine))
    assert states(engine) == [["matches"], ["matches"]]
    planned(engine, "json", to="mill", options=DeliveryOptions(overscan="5"))  # other options of the same target
    assert states(engine) == [["outdated"], ["outdated"]] and "other options" in whys(engine)
    work_off(engine, begin(engine))
    with Context(engine, LOCAL) as store, store.begin():  # the package itself
        profile = get_package(store, "mill")
        keep_package(store, profile.model_copy(update={"label": "The mill, renamed"}), "renamed")
    assert states(engine) == [["outdated"], ["outdated"]] and "the package changed" in whys(engine)
    with Context(engine, LOCAL) as store, store.begin():
        remove_camera(store, get_version(store, shots[0]).camera)
    assert len(states(engine)) == 1, "what was removed is no longer owed"


def test_only_the_shots_a_target_names_are_owed_and_the_camera_ticked_is_run(engine: Engine, shots: list[int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        show = show_of(store)
        set_target(store, show, PACKAGE, "json", shots=[show.shots[1].id])
        set_target(store, show, PACKAGE, "usd")
    assert states(engine) == [["not planned", "missing"], ["missing", "missing"]]
    run = begin(engine, cameras=[shots[1]])
    assert {(j.params["format"], j.version.camera_id) for j in with_versions(engine, run)} == {
        ("json", shots[1]),
        ("usd", shots[1]),
    }
    with Context(engine, LOCAL) as store, pytest.raises(BadInput, match="not a format that is written"):
        set_target(store, show_of(store), PACKAGE, "scroll")


def with_versions(engine: Engine, run: int) -> list[Job]:
    with Context(engine, LOCAL) as store:
        found = list(store.execute(select(Job).where(Job.run_id == run)).scalars())
        for job in found:
            _ = job.version.camera_id
        return found


def test_a_saved_recipe_is_done_before_and_its_version_named(engine: Engine, shots: list[int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        save_recipe(store, "to the mill", (Operation("shift", {"x_m": 3.0, "y_m": 0.0, "z_m": 0.0}),))
        save_recipe(store, "to the mill", (MOVED,))
    planned(engine, "json", recipe="to the mill")
    run = begin(engine)
    work_off(engine, run)
    assert states(engine) == [["matches"], ["matches"]]
    with Context(engine, LOCAL) as store:
        assert store.get_one(Run, run).recipes == {"to the mill": 2}
        head = get_version(store, shots[0])
        assert head.label == "1.1" and head.change == "recipe to the mill 2"
        assert len(head.recipe) == 1 and "2.0" in json.dumps(head.recipe) and "3.0" not in json.dumps(head.recipe)
    with Context(engine, LOCAL) as store, store.begin():
        save_recipe(store, "to the mill", (Operation("shift", {"x_m": 4.0, "y_m": 0.0, "z_m": 0.0}),))
    assert states(engine) == [["outdated"], ["outdated"]] and "'to the mill' is not applied" in whys(engine)


def test_the_cameras_of_a_shot_or_of_the_show_go_in_one_file(engine: Engine, shots: list[int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        copy_camera(store, get_version(store, shots[0]), "witness")
    with pytest.raises(BadInput, match="one camera in each file"):
        planned(engine, "json", together="shot")
    planned(engine, "usd", together="shot")
    run = begin(engine)
    assert [len(j.params["versions"]) for j in jobs(engine, run)] == [2, 1]
    assert states(engine) == [["running"]] * 3, "both of one file, also the second"
    work_off(engine, run)
    assert states(engine) == [["matches"]] * 3 and deliveries(engine) == 3
    with Context(engine, LOCAL) as store:
        everything = everything_of_run(store, store.get_one(Run, run))
        places = [f["path"] for d in everything.manifest["deliveries"] for f in d["files"]]
        assert len(everything.files) == 2 and sorted(places) == sorted([places[0]] * 2 + [places[2]]), (
            "a file that is shared is there once"
        )
        held = read_bytes(store, everything.files[places[0]])
    assert {p.GetName() for p in held.Traverse() if p.IsA(UsdGeom.Camera)} == {"shotcam", "witness"}
    with Context(engine, LOCAL) as store, store.begin():  # one of both is edited: the file is made anew, with both
        edit_version(store, get_version(store, shots[0]), (MOVED,), "twice as large")
    assert sorted(s for (s,) in states(engine)) == ["matches", "matches", "outdated"]
    again = begin(engine)
    assert [len(j.params["versions"]) for j in jobs(engine, again)] == [2]
    work_off(engine, again)
    assert states(engine) == [["matches"]] * 3
    with Context(engine, LOCAL) as store, store.begin():  # another camera comes into the shot
        copy_camera(store, get_version(store, shots[0]), "second witness")
    assert "its file needs other cameras" in whys(engine) and sum(s == ["outdated"] for s in states(engine)) == 2
    planned(engine, "usd", together="show", to="yup-rh-m")
    whole = begin(engine)
    assert [len(j.params["versions"]) for j in jobs(engine, whole) if j.params["together"] == "The Tidewright"] == [4]


def read_bytes(store: Context, number: int) -> Any:
    """A delivered file as the USD library opens it."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "delivered.usd"
        path.write_bytes(store.get_one(DeliveryFile, number).data)
        return Usd.Stage.Open(Sdf.Layer.OpenAsAnonymous(str(path)))


def test_two_runs_at_once_share_nothing(engine: Engine, shots: list[int]) -> None:
    planned(engine, "json")
    first = begin(engine, cameras=shots[:1])
    second = begin(engine)
    assert [j.version_id for j in jobs(engine, first)] != [j.version_id for j in jobs(engine, second)]
    assert len(jobs(engine, first)) == len(jobs(engine, second)) == 1
    work_off(engine, second)
    work_off(engine, first)
    work_off(engine, first)  # once more, by a worker that heard late of it
    assert deliveries(engine) == 2 and states(engine) == [["matches"], ["matches"]]


def test_a_run_is_stopped_resumed_and_repeated_for_what_failed(engine: Engine, shots: list[int]) -> None:
    planned(engine, "json")
    run = begin(engine)
    one, other = jobs(engine, run)
    with Context(engine, LOCAL) as store, store.begin():
        stop_run(store, store.get_one(Run, run))
    assert [j.state for j in jobs(engine, run)] == ["stopped", "stopped"] and states(engine) == [
        ["missing"],
        ["missing"],
    ]
    work_off(engine, run)
    assert deliveries(engine) == 0, "stopped work is not done by a worker that finds it in the queue"
    with Context(engine, LOCAL) as store, store.begin():
        resume_run(store, store.get_one(Run, run))
    with engine.begin() as connection:  # the first cannot be done: what was asked for is no option
        connection.execute(update(Job).where(Job.id == one.id).values(params=one.params | {"format": "scroll"}))
    work_off(engine, run)
    assert states(engine) == [["failed"], ["matches"]] and "'scroll' is not a format" in whys(engine)
    with Context(engine, LOCAL) as store:
        told = progress_of(store, store.get_one(Run, run))
        assert told.states == {"failed": 1, "done": 1} and not told.open and told.share == 1.0
    with engine.begin() as connection:
        connection.execute(update(Job).where(Job.id == one.id).values(params=one.params))
    with Context(engine, LOCAL) as store, store.begin():
        resume_run(store, store.get_one(Run, run), ("failed",))
        with pytest.raises(BadInput, match="nothing to repeat"):
            resume_run(store, store.get_one(Run, run), ("failed",))
    work_off(engine, run)
    assert states(engine) == [["matches"], ["matches"]] and deliveries(engine) == 2
    assert other.id in [j.id for j in jobs(engine, run) if j.state == "done"]


def test_the_board_asks_as_often_for_many_shots_as_for_few(engine: Engine, demo_files: dict[str, Path]) -> None:
    counts = []
    for names in (("A_010", "A_020"), ("B_010", "B_020", "B_030", "B_040", "B_050")):
        for name in names:
            kept_as(engine, demo_files["TW_010"], name)
        planned(engine, "json", "usd")
        with Context(engine, LOCAL) as store, store.begin():
            start_run(store, show_of(store), cameras=[get_version(store, c).camera_id for c in cameras(store)[:1]])
        with Context(engine, LOCAL) as store, counted(engine) as asked:
            plan = board(store, show_of(store))
            assert len(due(plan)) == 2 * len(plan.rows) - 2 and plan.worst_px is None
        counts.append(len(asked))
    assert counts[0] == counts[1] < 15


def cameras(store: Context) -> list[int]:
    return list(store.execute(select(Version.camera_id).order_by(Version.id)).scalars())


def test_killed_workers_lose_nothing_and_do_nothing_twice(engine: Engine, demo_files: dict[str, Path]) -> None:
    """Two workers, one of them killed again and again while it works: every delivery is there once, within its time."""
    for n in range(4):
        kept_as(engine, demo_files["TW_030"], f"TW_{n}00")
    planned(engine, "json", "usd")
    environment = {**os.environ, "DATABASE_URL": address_of(engine)}

    def start() -> subprocess.Popen[bytes]:
        return subprocess.Popen(anaxis_command("worker"), env=environment)

    run = begin(engine)
    steady, shot = start(), start()
    try:
        for _ in range(2):
            wait_for(lambda: any(j.state == "running" for j in jobs(engine, run)), 40)
            shot.send_signal(signal.SIGKILL)
            shot.wait()
            shot = start()
        with Context(engine, LOCAL) as store:
            assert workers(store), "workers are heard of"
        wait_for(lambda: all(j.state == "done" for j in jobs(engine, run)), 150)
    finally:
        for process in (steady, shot):
            process.terminate()
        for process in (steady, shot):
            process.wait(30)
    assert deliveries(engine) == 8 and {c for r in states(engine) for c in r} == {"warning"}, "TW_040 has a warning"
    with Context(engine, LOCAL) as store:
        whole = store.execute(select(func.count()).select_from(Job).where(Job.run_id == run)).scalar_one()
        assert whole == 8
    with engine.connect() as connection:
        assert (
            connection.execute(
                text("SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'anaxis.work'")
            ).scalar_one()
            == 0
        )


def test_what_can_be_made_again_goes_when_its_time_is_over_and_nothing_else(
    engine: Engine, shots: list[int], monkeypatch: pytest.MonkeyPatch
) -> None:
    old = datetime.now(UTC) - timedelta(days=20)
    with Context(engine, LOCAL) as store, store.begin():
        store.add(MadeFile(name="old.zip", in_row=b"x" * 1000, created_at=old))
        store.add(MadeFile(name="new.zip", in_row=b"x" * 10))
        stage_file(store, "never_kept.usda", b"abc", b"").created_at = old
        read = store.execute(select(SourceFile).where(SourceFile.kept).limit(1)).scalar_one()
        again = stage_file(store, "the_same_again.usda", read.data, read.scene)
        assert again.content is read.content, "the bytes are there once"
        store.execute(update(Content).values(used_at=old))
        store.execute(update(SourceFile).where(SourceFile.kept).values(created_at=old))
    with Context(engine, LOCAL) as store:
        clear_uploads(store)  # as the next upload does: here undone again
        assert store.execute(select(func.count()).select_from(SourceFile)).scalar_one() == 3, "what was kept stays"
    with Context(engine, LOCAL) as store:
        made, _, uploads, _, _ = kept(store)
        assert (made.number, made.going, made.frees) == (2, 1, 1000) and (uploads.number, uploads.going) == (2, 1)
        assert uploads.frees == 3, "the bytes of the other are also those of a file that stays"
    monkeypatch.setenv("ANAXIS_KEEP_MADE_DAYS", "0")
    assert clear_out(engine)["ANAXIS_KEEP_MADE_DAYS"] == 0, "0 keeps for ever"
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(SourceFile)).scalar_one() == 3, "what was kept stays"
        assert store.get(Content, sha256(b"abc").hexdigest()) is None, "bytes that no file is of go"
        (again,) = store.execute(select(SourceFile).where(~SourceFile.kept)).scalars()
        assert again.data, "and those that another one is of as well stay"
    with (
        Context(engine, LOCAL) as store,
        store.begin(),
    ):  # bytes that no file is of yet may be of one that is just being saved
        for name, minutes in (("fresh", 50), ("stale", 70)):
            used = datetime.now(UTC) - timedelta(minutes=minutes)
            store.add(Content(sha256=name, in_database=b"", used_at=used))
    clear_out(engine)
    with Context(engine, LOCAL) as store:
        assert store.get(Content, "fresh") is not None and store.get(Content, "stale") is None
    monkeypatch.setenv("ANAXIS_KEEP_MADE_DAYS", "14")
    assert clear_out(engine)["ANAXIS_KEEP_MADE_DAYS"] == 1
    monkeypatch.setenv("ANAXIS_KEEP_MADE_DAYS", "soon")
    with pytest.raises(BadInput, match="ANAXIS_KEEP_MADE_DAYS is 'soon'"):
        clear_out(engine)


def test_the_commands_plan_and_run_a_show(
    engine: Engine, shots: list[int], site: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("DATABASE_URL", address_of(engine))

    def said(*words: str) -> Any:
        result = run(*words, "--json")
        assert result.returncode == 0, result.stderr
        return json.loads(result.stdout)

    said("plan", "set", "--to", PACKAGE, "--format", "json,usd", "--shots", "TW_010")
    assert said("plan", "show")["counts"] == {"missing": 2, "not planned": 2}
    assert [d["shot"] for d in said("run", "--dry-run")["due"]] == ["TW_010", "TW_010"]
    assert deliveries(engine) == 0 and said("plan", "show")["counts"]["missing"] == 2
    done = said("run", "--out", str(tmp_path / "out"))
    assert sorted(p.suffix for p in (tmp_path / "out" / PACKAGE).iterdir()) == [".json", ".usd"]
    assert done["states"] == {"done": 2} and done["worst_px"] < 0.01 and done["failed"] == []
    assert said("plan", "show")["counts"] == {"matches": 2, "not planned": 2}
    refused = run("run", "--json")
    assert refused.returncode == 2 and "Nothing to deliver for The Tidewright" in refused.stderr
    refused = run("plan", "set", "--to", PACKAGE, "--format", "usd", "--shots", "TW_999")
    assert refused.returncode == 2 and "no shot 'TW_999': choose one of TW_010, TW_020" in refused.stderr
    monkeypatch.delenv("DATABASE_URL")
    refused = run("plan", "show")
    assert refused.returncode == 2 and "DATABASE_URL is not set" in refused.stderr


def test_a_plan_is_made_run_and_watched_in_the_browser(page: Page, engine: Engine, shots: list[int], site: str) -> None:
    with Context(engine, LOCAL) as store:
        number = show_of(store).id
    page.goto("/")
    page.get_by_role("link", name="Plan").click()
    expect(page.locator("#answer")).to_contain_text("No plan yet")
    page.get_by_label("Package").select_option(PACKAGE)
    page.get_by_label("Format").select_option("json")
    page.get_by_role("button", name="Add to plan").click()
    expect(page.locator("#answer")).to_contain_text("2 to deliver")
    page.get_by_role("button", name="Preview run").click()
    expect(page.locator("#dry")).to_contain_text("never delivered")
    page.get_by_role("button", name=re.compile("^Deliver \\d")).click()
    expect(page.locator("#answer")).to_contain_text("All match", timeout=90_000)
    expect(page.locator("#answer")).to_contain_text("largest deviation")
    fits(page)
    with page.expect_download() as fetched:
        page.get_by_role("link", name="Download all files").click()
    with zipfile.ZipFile(fetched.value.path()) as whole:
        manifest = json.loads(whole.read("manifest.json"))
        places = {f["path"]: f["sha256"] for d in manifest["deliveries"] for f in d["files"]}
        assert set(whole.namelist()) == {"manifest.json", *places} and len(places) == 2 and whole.testzip() is None
        assert all(hashlib.sha256(whole.read(place)).hexdigest() == checksum for place, checksum in places.items())
    with Context(engine, LOCAL) as store:
        parts = [*sent_as_zip(engine, everything_of_show(store, show_of(store)))]
    assert set(zipfile.ZipFile(io.BytesIO(b"".join(parts))).namelist()) == {"manifest.json", *places} and len(parts) > 3
    page.locator("#answer").get_by_role("link", name="Plan").click()
    expect(page.locator("#answer")).to_contain_text("All delivered and matching")
    fits(page)
    page.get_by_label("Shot or camera").fill("tw_02")
    page.get_by_role("button", name="Apply filters", exact=True).click()
    expect(page.locator("table.plan tbody tr")).to_have_count(1)
    with Visitor(base_url=site) as visitor:
        refused = visitor.post(f"/shows/{number}/runs", headers={"Accept": "text/html"})
        assert refused.status_code == 422 and "matches or is running" in refused.text
    assert httpx.get(f"{site}/workers", timeout=60).status_code == 200


def test_a_run_whose_delivery_does_not_match_says_so_first(page: Page, engine: Engine, tmp_path: Path) -> None:
    """A prime swap in glTF, whose standard holds one lens: done is not matching."""
    image = Image(1920, 1080)
    leaving = ShotCamera(track_of(primes()), NO_LANDMARKS, Picture(image, "width", False, False))
    deliver_all([leaving], find_profile("yup-rh-m"), "usd", tmp_path)
    (file,) = tmp_path.glob("*.usd")
    kept_as(engine, file, "TW_070")
    planned(engine, "gltf", "json")
    run = begin(engine)
    work_off(engine, run)
    assert states(engine) == [["mismatch", "matches"]]
    page.goto(f"/runs/{run}")
    expect(page.locator("#answer")).to_contain_text("1 does not match")
    expect(page.locator("#answer")).to_have_class("answer off")
    first = page.locator("tbody tr").first
    expect(first).to_contain_text("gltf")
    expect(first).to_contain_text("Does not match")
    expect(first.get_by_role("link")).to_contain_text("px")
    fits(page)
