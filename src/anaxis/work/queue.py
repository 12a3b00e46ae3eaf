"""Long work: asked for by a page, done by a worker process, watched and stopped from the page.

The queue is procrastinate's, in the same PostgreSQL: what was asked for survives a crash of any process.
A row of ``jobs`` says how far the work is; the queue only says that it is to be done. The worker reads
the row again whenever it tells its progress, and gives up where somebody has stopped it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from contextlib import suppress
from typing import Any

import procrastinate
from sqlalchemy import Engine, make_url, select, text, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from anaxis.store.models import Job
from anaxis.store.rows import found

TASK = "anaxis.work"
_WATCH_S = 3.0
QUEUE = "anaxis"
OPEN = ("waiting", "running", "stopping")
# Asked for and not in the queue: the process that asked ended in between.
_LOST = text(
    "SELECT id FROM jobs WHERE state IN ('waiting', 'running', 'stopping') AND NOT EXISTS (SELECT 1 FROM procrastinate_jobs p "
    "WHERE p.status IN ('todo', 'doing') AND p.task_name = :task AND (p.args->>'job_id')::int = jobs.id)"
)


def address_of(engine: Engine) -> str:
    """The database's address as its own driver takes it."""
    return make_url(engine.url).set(drivername="postgresql").render_as_string(hide_password=False)


def ask_for(engine: Engine, kind: str, version_id: int, params: dict[str, Any]) -> int:
    """Put work down to be done; returns its number. It is in the store before it is in the queue."""
    with Session(engine) as session, session.begin():
        job = Job(kind=kind, version_id=version_id, params=params)
        session.add(job)
        session.flush()
        number = job.id
    put_in_queue(engine, [number])
    return number


def put_in_queue(engine: Engine, numbers: list[int]) -> None:
    connector = procrastinate.SyncPsycopgConnector(conninfo=address_of(engine))
    with procrastinate.App(connector=connector).open() as app:
        for number in numbers:
            # One entry a job in the queue, and never two of them at work.
            with suppress(procrastinate.exceptions.AlreadyEnqueued):
                app.configure_task(
                    TASK, queue=QUEUE, lock=f"job {number}", queueing_lock=f"job {number}"
                ).defer(job_id=number)


def lost_work(engine: Engine) -> list[int]:
    """Work that was asked for and is not in the queue."""
    with engine.connect() as connection:
        return [row[0] for row in connection.execute(_LOST, {"task": TASK})]


def get_job(session: Session, number: int) -> Job:
    return found(session, Job, number, "work")


def stop(session: Session, number: int) -> None:
    """Work that has not begun is stopped at once, work under way when it next tells its progress."""
    get_job(session, number)
    for state, becomes in (("waiting", "stopped"), ("running", "stopping")):
        session.execute(update(Job).where(Job.id == number, Job.state == state).values(state=becomes))


def has_open_work(engine: Engine) -> bool:
    with Session(engine) as session:
        return session.execute(select(Job.id).where(Job.state.in_(OPEN)).limit(1)).first() is not None


class WorkerProcess:
    """The worker, started when there is work and started again where it ended; it ends with its owner."""

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
                [sys.executable, "-P", "-c", "from anaxis.work.worker import main; main()"],
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
