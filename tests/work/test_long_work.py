"""Long work: done once, watched, stopped, and taken up again after the process that did it was killed."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, func, select, text

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.delivery.options import DeliveryOptions
from anaxis.packages import shipped_profiles
from anaxis.queue.jobs import TryAgain, WorkerProcess, address_of, has_worker, stop
from anaxis.queue.jobs import ask_for as ask_in
from anaxis.store.models import Delivery, Job
from anaxis.worker.attempt import MOST_TRIES, Stopped, Teller, do_job
from jobs import ended, job
from pages import fits, ready, take_in
from test_store import keep


def asked(version_id: int, reduce_px: float | None = 0.5, format_key: str = "json") -> dict[str, Any]:
    profile = shipped_profiles()["zup-lh-cm"].model_dump(mode="json")
    return {
        "profile": profile,
        "format": format_key,
        "options": asdict(DeliveryOptions(reduce_px, 0.0)),
        "versions": [version_id],
        "together": "",
    }


def ask_for(engine: Engine, kind: str, version_id: int, params: dict[str, Any]) -> int:
    with Context(engine, LOCAL) as store, store.begin():
        return ask_in(store, kind, version_id, params).id


def queued(engine: Engine) -> int:
    with engine.connect() as connection:
        return connection.execute(
            text("SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'anaxis.work'")
        ).scalar_one()


@pytest.fixture
def version_id(engine: Engine, demo_files: dict[str, Path]) -> int:
    with Context(engine, LOCAL) as store, store.begin():
        return keep(store, demo_files["TW_020"], "TW_020").id


@pytest.fixture
def worker(engine: Engine) -> Iterator[WorkerProcess]:
    process = WorkerProcess(engine)
    yield process
    process.close()


def test_a_delivery_with_fewer_keys_is_kept_with_what_was_asked(engine: Engine, version_id: int) -> None:
    number = ask_for(engine, "delivery", version_id, asked(version_id))
    do_job(engine, number)
    done = job(engine, number)
    assert done.state == "done" and done.share == 1.0
    with Context(engine, LOCAL) as store:
        delivery = store.get_one(Delivery, done.result["delivery"])
        assert delivery.options["reduce_px"] == 0.5 and delivery.options["keys"]["after"] < 20
        assert 0.01 < delivery.max_px <= 0.5 and delivery.matches and "is frame 0 in the package" in delivery.notes[-1]
    do_job(engine, number)  # taken up twice, done once
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(Delivery)).scalar_one() == 1


def test_a_job_waits_for_a_place_of_bytes_that_is_away_for_as_long_as_it_takes(
    engine: Engine, demo_files: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    contents, share = tmp_path / "contents", tmp_path / "share"
    monkeypatch.setenv("ANAXIS_CONTENTS", str(contents))
    with Context(engine, LOCAL) as store, store.begin():
        version_id = keep(store, demo_files["TW_010"], "TW_010").id
    number = ask_for(engine, "delivery", version_id, asked(version_id))
    contents.rename(share)
    for _ in range(MOST_TRIES + 2):
        with pytest.raises(TryAgain):
            do_job(engine, number)
    waits = job(engine, number)
    assert waits.state == "waiting" and "mount the folder" in waits.said and "tries again" in waits.said
    share.rename(contents)
    do_job(engine, number)
    assert job(engine, number).state == "done"


def test_what_cannot_be_done_says_why_and_keeps_nothing(engine: Engine, version_id: int) -> None:
    number = ask_for(engine, "delivery", version_id, asked(version_id, format_key="scroll"))
    do_job(engine, number)
    assert job(engine, number).state == "failed" and "'scroll' is not a format" in job(engine, number).said
    number = ask_for(engine, "delivery", version_id, {"profile": 3})
    do_job(engine, number)
    failed = job(engine, number)
    assert failed.state == "failed" and "Traceback" not in failed.said and failed.said.endswith(".")


def test_work_is_stopped_before_and_while_it_is_done(engine: Engine, version_id: int) -> None:
    waiting, running = (ask_for(engine, "keys", version_id, asked(version_id) | {"reduce_px": 0.1}) for _ in range(2))
    with Context(engine, LOCAL) as store, store.begin():
        stop(store, waiting)
        store.get_one(Job, running).state = "running"
    do_job(engine, waiting)
    assert job(engine, waiting).state == "stopped"
    tell = Teller(engine, running, 0)
    tell(0.25)
    assert job(engine, running).share == 0.25
    with Context(engine, LOCAL) as store, store.begin():
        stop(store, running)
    tell._said = 0.0
    with pytest.raises(Stopped):
        tell(0.5)
    do_job(engine, running)
    assert job(engine, running).state == "stopped" and job(engine, running).result == {}


def test_an_older_worker_leaves_work_of_a_newer_version_to_a_newer_worker(
    engine: Engine, version_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    unknown = ask_for(engine, "delivery_of_tomorrow", version_id, asked(version_id))
    with monkeypatch.context() as tomorrow:
        tomorrow.setattr("anaxis.queue.jobs.REVISION", "9999")
        newer = ask_for(engine, "delivery", version_id, asked(version_id))
    for number in (unknown, newer):
        for _ in range(3):
            with pytest.raises(TryAgain) as left:
                do_job(engine, number)
            assert not left.value.counts, "nothing is wrong with this worker"
        held = job(engine, number)
        assert (held.state, held.tries) == ("waiting", 0) and "waits for a worker of the newer version" in held.said
    with monkeypatch.context() as tomorrow:
        tomorrow.setattr("anaxis.worker.attempt.REVISION", "9999")
        do_job(engine, newer)
    assert job(engine, newer).state == "done" and job(engine, newer).said == ""
    with Context(engine, LOCAL) as store, store.begin():
        stop(store, unknown)
    do_job(engine, unknown)
    assert job(engine, unknown).state == "stopped"


def test_work_is_asked_for_and_in_the_queue_or_neither(engine: Engine, version_id: int) -> None:
    with pytest.raises(RuntimeError), Context(engine, LOCAL) as store, store.begin():
        ask_in(store, "keys", version_id, asked(version_id) | {"reduce_px": 0.5})
        raise RuntimeError("the process that asks ends here")
    with Context(engine, LOCAL) as store:
        assert not store.execute(select(Job)).first() and queued(engine) == 0 and not has_worker(store)
    number = ask_for(engine, "keys", version_id, asked(version_id) | {"reduce_px": 0.5})
    assert queued(engine) == 1
    process = WorkerProcess(engine)  # starts by itself: there is open work
    try:
        found = ended(engine, number)
        assert found.state == "done" and found.result["after"] < 20 and len(found.result["deviation_px"]) == 240
        with Context(engine, LOCAL) as store:
            assert has_worker(store)
    finally:
        process.close()


def test_the_worker_is_a_command_of_its_own(engine: Engine, version_id: int) -> None:
    number = ask_for(engine, "keys", version_id, asked(version_id) | {"reduce_px": 0.5})
    command = [str(Path(sys.executable).with_name("anaxis")), "worker"]
    environment = {**os.environ, "DATABASE_URL": address_of(engine)}
    process = subprocess.Popen(command, stdin=subprocess.DEVNULL, env=environment)
    try:
        assert ended(engine, number, 90).state == "done"
    finally:
        process.terminate()
        process.wait(30)


def test_work_of_a_killed_worker_is_taken_up_again(engine: Engine, version_id: int) -> None:
    # A worker that is killed as soon as it has begun: it leaves 'running' here and 'doing' in the queue.
    environment = {**os.environ, "DATABASE_URL": address_of(engine)}
    script = (
        "import os, signal, anaxis.worker.process as w, anaxis.app.long_work as k\n"
        "k.KINDS['keys'] = lambda *a: os.kill(os.getpid(), signal.SIGKILL)\nw.main()"
    )
    number = ask_for(engine, "keys", version_id, asked(version_id) | {"reduce_px": 0.5})
    killed = subprocess.Popen([sys.executable, "-c", script], stdin=subprocess.PIPE, env=environment)
    assert killed.wait(120) == -signal.SIGKILL
    assert job(engine, number).state == "running" and queued(engine) == 1
    worker = WorkerProcess(engine)  # not before: it would have done the work itself
    try:
        assert ended(engine, number, 90).state == "done"
    finally:
        worker.close()


@pytest.mark.browser
def test_fewer_keys_on_the_page(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_020"])
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_label("Track JSON").check()
    page.fill("#reduce_px", "no")
    page.get_by_role("button", name="Preview keys").click()
    expect(page.locator(".said-here")).to_contain_text("is not a number")
    page.fill("#reduce_px", "0.5")
    page.get_by_role("button", name="Preview keys").click()
    expect(page.locator(".said-here")).to_have_count(0)
    expect(page.locator("#keys-look")).to_contain_text("of 240 keys (curved spans)", timeout=30_000)
    assert page.locator("#keys-look svg .ticks").count() == 1
    page.fill("[name=first_there]", "0")
    page.keyboard.press("Tab")
    page.wait_for_url("**there=0**")
    ready(page)
    assert page.inner_text("[data-now=ours]") == "1" and page.inner_text("[data-now=theirs]") == "0"
    page.get_by_label("Track JSON").check()
    page.fill("#reduce_px", "0.5")
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/*", timeout=30_000)
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Matches within 0.5 px")
    assert "0–239" in page.inner_text(".numbers") and "curved" in page.inner_text(".numbers")
    ours, theirs = page.inner_text("[data-now=ours]"), page.inner_text("[data-now=theirs]")
    assert int(ours) == int(theirs) + 1
    fits(page)
