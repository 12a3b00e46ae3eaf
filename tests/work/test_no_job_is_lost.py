"""No queued job is lost and none is done twice, whatever is killed between any two steps of a job."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import Engine, text

from anaxis.app.context import Context
from anaxis.app.long_work import KINDS
from anaxis.app.roles import LOCAL
from anaxis.queue import reconcile
from anaxis.queue.jobs import TryAgain, address_of, ask_for, left_alone, resume_job, stop
from anaxis.store.database import connect, migrate
from anaxis.store.local_postgres import LocalPostgres
from anaxis.store.models import Job, Worker
from anaxis.worker import attempt
from anaxis.worker.attempt import MOST_TRIES, do_job
from anaxis.worker.process import Health
from lanes import sized
from test_store import keep


@pytest.fixture
def version_id(engine: Engine, demo_files: dict[str, Path]) -> int:
    return _version(engine, demo_files)


def _version(engine: Engine, demo_files: dict[str, Path]) -> int:
    with Context(engine, LOCAL) as store, store.begin():
        return keep(store, demo_files["TW_020"], "TW_020").id


def _ask(engine: Engine, version_id: int, how_many: int = 1) -> list[int]:
    with Context(engine, LOCAL) as store, store.begin():
        return [ask_for(store, "keys", version_id, {}).id for _ in range(how_many)]


def _job(engine: Engine, number: int) -> Job:
    with Context(engine, LOCAL) as store:
        return store.get_one(Job, number)


def _states(engine: Engine) -> Counter[str]:
    with engine.connect() as line:
        return Counter(line.execute(text("SELECT state FROM jobs")).scalars())


def _entries(engine: Engine) -> list[tuple[str, str]]:
    with engine.connect() as line:
        query = "SELECT queueing_lock, status::text FROM procrastinate_jobs WHERE task_name = 'anaxis.work' ORDER BY id"
        return [(lock, status) for lock, status in line.execute(text(query))]


@contextmanager
def _workers(url: str, seed: int) -> Iterator[list[str]]:
    """Workers with faults, and what each of them died of."""
    command = [sys.executable, str(Path(__file__).with_name("faulty_workers.py")), str(seed)]
    environment = {**os.environ, "DATABASE_URL": url}
    process = subprocess.Popen(
        command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, start_new_session=True
    )
    assert process.stdout is not None
    died: list[str] = []
    said = process.stdout
    hearing = threading.Thread(target=lambda: died.extend(map(str.strip, said)), daemon=True)
    hearing.start()
    try:
        yield died
    finally:
        with suppress(ProcessLookupError):
            os.killpg(process.pid, 9)
        process.wait()
        hearing.join(10)


def _all_done(engine: Engine, how_many: int, seconds: float, harm: object = None) -> None:
    deadline = time.monotonic() + seconds
    while True:
        with suppress(Exception):  # the database is away for a moment
            states = _states(engine)
            if states["done"] == how_many and not _entries(engine):
                break
        assert time.monotonic() < deadline, (states, _entries(engine)[:5])
        if callable(harm):
            harm()
        time.sleep(0.2)
    with engine.connect() as line:
        effects = line.execute(text("SELECT count(*), count(DISTINCT job_id) FROM effects")).one()
    assert tuple(effects) == (how_many, how_many), "one effect a job: none lost, none twice"


JOBS = sized(500, 30)


def test_workers_killed_between_any_two_steps_and_faults_lose_no_job(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    draw = random.Random(JOBS)
    with LocalPostgres(tmp_path / "cluster", throwaway=True) as server:
        engine = connect(server.url)
        migrate(engine)
        version = _version(engine, demo_files)
        with engine.begin() as line:
            line.execute(text("CREATE TABLE effects (job_id int NOT NULL)"))
        _ask(engine, version, JOBS)
        killed: Counter[str] = Counter()
        database_at = {JOBS // 3, 2 * JOBS // 3}  # jobs left when the whole database is killed

        def harm() -> None:
            left = JOBS - _states(engine)["done"]
            if database_at and left <= max(database_at):
                database_at.remove(max(database_at))
                killed["database"] += 1
                assert server._process is not None
                server._process.kill()
                server._process.wait()
                server.start()
            elif draw.random() < 0.3:
                killed["backend"] += 1
                with suppress(psycopg.Error), psycopg.connect(server.url, autocommit=True) as line:
                    line.execute(
                        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE backend_type = 'client backend' "
                        "AND pid <> pg_backend_pid() ORDER BY random() LIMIT 1"
                    )

        with _workers(address_of(engine), JOBS) as died:
            for asked in range(JOBS, 6 * JOBS, JOBS):
                _all_done(engine, asked, 60 + 3 * JOBS, harm)
                # A worker whose database was away ends before the line where it would have been killed; on a busy machine all may.
                # Which of the faults ends its worker depends on which worker gets a job first: one of them is enough.
                harmed = "kill 9" in died and any(d.endswith(" 256") for d in died)
                if harmed:
                    break
                _ask(engine, version, JOBS)
        engine.dispose()
    assert killed["database"] == 2 and harmed, (killed, Counter(died))


def test_a_fault_that_is_not_the_jobs_is_tried_again_then_said_and_can_be_resumed(
    engine: Engine, version_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setitem(KINDS, "keys", full)
    (number,) = _ask(engine, version_id)
    waits = []
    for tries in range(1, MOST_TRIES):
        with pytest.raises(TryAgain) as told:
            do_job(engine, number)
        waits.append(told.value.wait_s)
        assert _job(engine, number).state == "waiting" and _job(engine, number).tries == tries
        assert _job(engine, number).said == "The disk of the worker is full. Anaxis tries again shortly."
    assert waits == sorted(waits) and waits[0] == 2 and waits[-1] == 60
    assert len(_entries(engine)) == 1, "the entry stays until there is a result"
    do_job(engine, number)
    assert _job(engine, number).state == "failed" and _job(engine, number).said.startswith(
        "The disk of the worker is full."
    )
    monkeypatch.setitem(KINDS, "keys", lambda *_: {"after": 3})
    with Context(engine, LOCAL) as store, store.begin():
        resume_job(store, number)
    do_job(engine, number)
    assert _job(engine, number).state == "done" and _job(engine, number).result == {"after": 3}


def test_a_job_that_ends_its_worker_every_time_fails_at_last(engine: Engine, version_id: int) -> None:
    (number,) = _ask(engine, version_id)
    with Context(engine, LOCAL) as store, store.begin():
        job = store.get_one(Job, number)
        job.state, job.tries = "running", MOST_TRIES  # as the last of the killed workers left it
    do_job(engine, number)
    assert _job(engine, number).state == "failed" and f"ended {MOST_TRIES} times" in _job(engine, number).said


def test_an_attempt_that_was_replaced_records_nothing(
    engine: Engine, version_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    (number,) = _ask(engine, version_id)

    def slow(session: Context, job: Job, tell: object) -> dict[str, object]:
        with Context(engine, LOCAL) as other, other.begin():  # meanwhile another worker has taken the job up
            other.get_one(Job, number).tries += 1
        return {"after": 1}

    monkeypatch.setitem(KINDS, "keys", slow)
    do_job(engine, number)
    assert _job(engine, number).state == "running" and _job(engine, number).result == {}
    with Context(engine, LOCAL) as store:
        attempt.Teller(engine, number, 2)(0.5)
        with pytest.raises(attempt.Stopped):
            attempt.Teller(engine, number, 1)(0.75)
        assert not store.new


def test_jobs_and_queue_are_compared_and_mended(
    engine: Engine, version_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    lost, stopping, ended, held, fine = _ask(engine, version_id, 5)
    logged: list[str] = []
    monkeypatch.setattr(reconcile._log, "warning", lambda text, *args: logged.append(text % args))
    with engine.begin() as line:
        for number in (lost, stopping):
            line.execute(text("DELETE FROM procrastinate_jobs WHERE queueing_lock = :lock"), {"lock": f"job {number}"})
        line.execute(text("UPDATE jobs SET state = 'stopping' WHERE id = :id"), {"id": stopping})
        line.execute(text("UPDATE jobs SET state = 'done' WHERE id = :id"), {"id": ended})
        taken = text("UPDATE procrastinate_jobs SET status = 'doing' WHERE queueing_lock = :lock RETURNING id")
        entry = line.execute(taken, {"lock": f"job {held}"}).scalar_one()
    monkeypatch.setattr(reconcile, "_BEGINS_WITHIN_S", 3600)
    assert reconcile.reconcile(engine) == [], "a worker that has just taken an entry is given time to begin"
    monkeypatch.setattr(reconcile, "_BEGINS_WITHIN_S", 0)
    assert reconcile.reconcile(engine) == [entry]
    assert _entries(engine) == [(f"job {held}", "doing"), (f"job {fine}", "todo"), (f"job {lost}", "todo")]
    assert _job(engine, stopping).state == "stopped" and _job(engine, lost).state == "waiting"
    assert f"1 jobs put back in the queue, which had no entry: job {lost}" in logged
    # While somebody works on it, nothing is given back, and what is stopping is left to that worker.
    with engine.connect() as line:
        line.execute(text(f"SELECT pg_advisory_lock({attempt.JOB_LOCK}, {held})"))
        assert reconcile.reconcile(engine) == []


def test_work_is_shown_as_left_alone(engine: Engine, version_id: int) -> None:
    waiting, running = _ask(engine, version_id, 2)
    with Context(engine, LOCAL) as store:
        assert left_alone(store, Job.id > 0) == []
    with engine.begin() as line:
        line.execute(text("UPDATE jobs SET created_at = now() - interval '1 minute'"))
        worker = "INSERT INTO workers (host, pid, at_once, heard_at) VALUES ('mill', 1, 1, now() - interval '{} s') RETURNING id"
        gone, lives = (line.execute(text(worker.format(ago))).scalar_one() for ago in (60, 1))
        begun = text(
            "UPDATE jobs SET state = 'running', begun_at = now() - interval '1 minute', worker_id = :w WHERE id = :id"
        )
        line.execute(begun, {"w": gone, "id": running})
    with Context(engine, LOCAL) as store:
        assert left_alone(store, Job.id > 0) == [waiting, running]
    with engine.begin() as line:
        line.execute(begun, {"w": lives, "id": running})
        line.execute(text("INSERT INTO procrastinate_workers DEFAULT VALUES"))
    with Context(engine, LOCAL) as store, store.begin():
        assert left_alone(store, Job.id > 0) == []
        stop(store, waiting)
        assert store.get_one(Worker, lives).host == "mill"
    assert _entries(engine) == [(f"job {running}", "todo")], "stopping removes what has not begun"


def test_a_worker_is_faulty_after_three_different_jobs_in_a_row() -> None:
    health = Health()
    for number in (1, 2, 2, 2):
        health.fault(number, "memory")
    assert not health.faulty.is_set()
    health.done()
    for number in (3, 4):
        health.fault(number, "memory")
    assert not health.faulty.is_set()
    health.fault(5, "memory")
    assert health.faulty.is_set()
