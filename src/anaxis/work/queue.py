"""Long work: asked for by a page, done by a worker process, watched and stopped from the page.

The queue is procrastinate's, in the same PostgreSQL: what was asked for is in it with the same transaction, and
survives a crash of any process.
A row of ``jobs`` says how far the work is; the queue only says that it is to be done. The worker reads
the row again whenever it tells its progress, and gives up where somebody has stopped it.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from contextlib import suppress
from typing import Any

from sqlalchemy import ColumnElement, Engine, make_url, select, text, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from anaxis.store.models import Job
from anaxis.store.rows import actor_named, found

TASK = "anaxis.work"
_WATCH_S = 3.0
QUEUE = "anaxis"
CALL = "anaxis.call"
OPEN = ("waiting", "running", "stopping")
# procrastinate's own way into its queue, on a connection of ours.
_DEFER = text(
    "SELECT procrastinate_defer_jobs_v1(ARRAY[ROW(CAST(:queue AS varchar), CAST(:task AS varchar), CAST(:priority AS integer), CAST(:lock AS text), "
    "CAST(:lock AS text), CAST(:args AS jsonb), CAST(NULL AS timestamptz))]::procrastinate_job_to_defer_v1[])"
)
_WAITS = text("SELECT id FROM procrastinate_jobs WHERE queueing_lock = :lock AND status = 'todo' FOR UPDATE")
_ALIVE = text("SELECT 1 FROM procrastinate_workers WHERE last_heartbeat > now() - interval '15 seconds' LIMIT 1")


class NotTaken(Exception):
    """Something told by HTTP was not taken: it is to be tried again."""


def address_of(engine: Engine) -> str:
    """The database's address as its own driver takes it."""
    return make_url(engine.url).set(drivername="postgresql").render_as_string(hide_password=False)


# What somebody waits for at a page goes before what a run does.
WAITED_FOR, OF_A_RUN = 10, 0


def ask_for(session: Session, kind: str, version_id: int, params: dict[str, Any], **of_run: int) -> Job:
    """Put work down to be done, in the session's own transaction: it is asked for and in the queue, or neither.

    ``of_run`` are the ``run_id`` and ``target_id`` where a run asks for it.
    """
    job = Job(kind=kind, version_id=version_id, params=params, actor=actor_named(session), **of_run)
    session.add(job)
    session.flush()
    put_in_queue(session, job)
    return job


def put_in_queue(session: Session, job: Job) -> None:
    """A job in the queue: once, or once more after it was stopped or failed."""
    lock = f"job {job.id}"  # one entry a job in the queue, and never two of them at work
    priority = WAITED_FOR if job.run_id is None else OF_A_RUN
    args = json.dumps({"job_id": job.id})
    # One that still waits there is held until this transaction ends, so that no worker takes it up for the state before.
    if session.execute(_WAITS, {"lock": lock}).first():
        return
    session.execute(_DEFER, {"queue": QUEUE, "task": TASK, "priority": priority, "lock": lock, "args": args})


def call_in_queue(session: Session, number: int) -> None:
    """Something to be told by HTTP, in the queue."""
    args, lock = json.dumps({"call_id": number}), f"call {number}"
    session.execute(_DEFER, {"queue": QUEUE, "task": CALL, "priority": OF_A_RUN, "lock": lock, "args": args})


def many_are_in_queue(session: Session) -> None:
    """Tell the database that its queue has grown: for all it knows it is as empty as it mostly is, and each worker's every
    question would go through all pairs of what waits."""
    session.execute(text("ANALYZE procrastinate_jobs"))


def has_worker(session: Session) -> bool:
    """Whether a worker has been heard of lately, on any machine."""
    return session.execute(_ALIVE).first() is not None


def get_job(session: Session, number: int) -> Job:
    return found(session, Job, number, "work")


def stop(session: Session, number: int) -> None:
    """See :func:`stop_those`; raises NotFound where there is no such work."""
    get_job(session, number)
    stop_those(session, Job.id == number)


def stop_those(session: Session, which: ColumnElement[bool]) -> None:
    """Work that has not begun is stopped at once, work under way when it next tells its progress."""
    for state, becomes in (("waiting", "stopped"), ("running", "stopping")):
        session.execute(update(Job).where(which, Job.state == state).values(state=becomes))


def has_open_work(engine: Engine) -> bool:
    with Session(engine) as session:
        return session.execute(select(Job.id).where(Job.state.in_(OPEN)).limit(1)).first() is not None


class WorkerProcess:
    """A worker of one's own, started when there is work and started again where it ended; it ends with its owner."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._over = threading.Event()
        threading.Thread(target=self._watch, daemon=True).start()

    def _watch(self) -> None:
        """Work that waits is never left waiting: not for a page that asks, nor after the database was away."""
        while True:
            with suppress(SQLAlchemyError, OSError):
                if has_open_work(self._engine):
                    self.ensure()
            if self._over.wait(_WATCH_S):
                return

    def ensure(self) -> None:
        with self._lock:
            if self._over.is_set():
                return
            if self._process is not None and self._process.poll() is None:
                return
            environment = {**os.environ, "DATABASE_URL": address_of(self._engine)}
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-c", "from anaxis.work.worker import main; main(owned=True)"],
                stdin=subprocess.PIPE,
                env=environment,
            )

    def close(self) -> None:
        self._over.set()
        with self._lock:
            if self._process is not None:
                assert self._process.stdin
                self._process.stdin.close()  # it ends when nobody holds the other end any more
                try:
                    self._process.wait(10)
                except subprocess.TimeoutExpired:
                    self._process.kill()
                    self._process.wait()
                self._process = None
