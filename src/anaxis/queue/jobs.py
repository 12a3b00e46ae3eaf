"""Long work: asked for by a page, done by a worker process, watched and stopped from the page.

The queue is procrastinate's, in the same PostgreSQL. A job is a row of ``jobs``, which holds its state; its entry in the
queue says that it is to be done. Both are written in the transaction that asks for the work, and the entry is removed in
the transaction that records the result. :mod:`anaxis.queue.reconcile` compares the two.
"""

from __future__ import annotations

import os
import subprocess
import threading
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

import procrastinate
from procrastinate.exceptions import AlreadyEnqueued, ConnectorException
from procrastinate.jobs import Job as Entry
from procrastinate.types import TimeDeltaParams
from sqlalchemy import ColumnElement, Engine, func, make_url, select, text, update
from sqlalchemy.exc import IntegrityError, OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.monitoring.logs import request_id
from anaxis.program import anaxis_command
from anaxis.store.database import REVISION
from anaxis.store.models import Job, Worker
from anaxis.store.rows import found
from anaxis.store.session import StoreSession, every_show

TASK = "anaxis.work"
_WATCH_S = 3.0
QUEUE = "anaxis"
CALL, CALL_QUEUE = "anaxis.call", "anaxis.calls"
MAIL = "anaxis.mail"
# Notices that come within this time go in one mail.
_MAIL_WAITS_S = 20
OPEN = ("waiting", "running", "stopping")
# The first key of the advisory lock that an attempt at a job holds; the second is the job's number.
JOB_LOCK = 7_204_115
# The same of a mail; the second key is the number of the person it is for.
MAIL_LOCK = 7_204_118
# A job that has waited for longer, or whose worker has said nothing for longer, is shown as left alone.
PATIENCE_S = 20
# Entries are made on connections of ours: it needs none of its own.
_QUEUE = procrastinate.App(connector=procrastinate.SyncPsycopgConnector())
_WAITS = text("SELECT id FROM procrastinate_jobs WHERE queueing_lock = :lock AND status = 'todo' FOR UPDATE")
_TAKE_OUT = text("DELETE FROM procrastinate_jobs WHERE status = 'todo' AND queueing_lock = ANY(:locks)")
_ALIVE = text("SELECT 1 FROM procrastinate_workers WHERE last_heartbeat > now() - interval '15 seconds' LIMIT 1")


class TryAgain(Exception):
    """Work has no result, and is not at fault: its queue entry is due again after ``wait_s`` seconds.

    ``counts`` is False where nothing is wrong with this worker: another attempt is under way, or the database was away.
    """

    def __init__(self, reason: str, wait_s: float, counts: bool = True) -> None:
        super().__init__(reason)
        self.wait_s, self.counts = wait_s, counts


def address_of(engine: Engine) -> str:
    """The database's address as its own driver takes it."""
    return make_url(engine.url).set(drivername="postgresql").render_as_string(hide_password=False)


# What somebody waits for at a page goes before what a run does.
WAITED_FOR, OF_A_RUN = 10, 0


def ask_for(session: StoreSession, kind: str, version_id: int, params: dict[str, Any], **of_run: int) -> Job:
    """Put work down to be done, in the session's own transaction: it is asked for and in the queue, or neither.

    ``of_run`` are the ``run_id`` and ``target_id`` where a run asks for it.
    """
    return ask_for_all(session, kind, [{"version_id": version_id, "params": params, **of_run}])[0]


def ask_for_all(session: StoreSession, kind: str, wanted: Sequence[dict[str, Any]]) -> list[Job]:
    """Put work down as :func:`ask_for` does, by its ``version_id``, ``params``, ``run_id`` and ``target_id``: a run of 10,000 deliveries
    in a few queries."""
    of = {"kind": kind, "actor": session.actor_name, "request_id": request_id(), "revision": REVISION}
    jobs = [Job(**of, **one) for one in wanted]
    session.add_all(jobs)
    session.flush()
    _enqueue(session, [_entry_of(job) for job in jobs])
    return jobs


def lock_of_job(number: int) -> str:
    """What procrastinate knows a job's entry by."""
    return f"job {number}"


def lock_of_mail(notice_id: int) -> str:
    return f"mail {notice_id}"


def lock_of_call(number: int) -> str:
    return f"call {number}"


def remove_entry(session: Session, entry: int | None) -> None:
    """Remove an entry from the queue, in the transaction that records the result of its work; None has no entry."""
    if entry is not None:
        session.execute(text("DELETE FROM procrastinate_jobs WHERE id = :entry"), {"entry": entry})


def put_in_queue(session: Session, job: Job) -> None:
    """A job in the queue: once, or once more after it was stopped or failed."""
    # One that still waits there is held until this transaction ends, so that no worker takes it up for the state before.
    if session.execute(_WAITS, {"lock": lock_of_job(job.id)}).first():
        return
    _enqueue(session, [_entry_of(job)])


def _entry_of(job: Job) -> Entry:
    """One entry a job in the queue, and never two of them at work."""
    priority = WAITED_FOR if job.run_id is None else OF_A_RUN
    return _entry(TASK, lock_of_job(job.id), QUEUE, priority, job_id=job.id)


def call_in_queue(session: Session, number: int) -> None:
    """A webhook call, in the queue of such: none ever keeps a job waiting."""
    _enqueue(session, [_entry(CALL, lock_of_call(number), CALL_QUEUE, OF_A_RUN, call_id=number)])


def mail_in_queue(session: Session, notice_id: int) -> None:
    """A notice to be mailed, shortly: what waits for the same person by then goes with it."""
    wait = TimeDeltaParams(seconds=_MAIL_WAITS_S)
    _enqueue(session, [_entry(MAIL, lock_of_mail(notice_id), CALL_QUEUE, OF_A_RUN, wait, notice_id=notice_id)])


def _entry(task: str, lock: str, queue: str, priority: int, wait: TimeDeltaParams | None = None, **args: int) -> Entry:
    """An entry of the queue, which holds one of the name ``lock``; one of that name is done at a time."""
    asked = _QUEUE.configure_task(
        task, queue=queue, lock=lock, queueing_lock=lock, priority=priority, schedule_in=wait, task_kwargs=dict(args)
    )
    return asked.job


def _enqueue(session: Session, entries: list[Entry]) -> None:
    """Entries by procrastinate's own interface, on the session's connection and so in its transaction.

    Raises what SQLAlchemy raises for its own queries.
    """
    own = session.connection().connection.driver_connection
    said = f"enqueue {entries[0].lock}"
    try:
        _QUEUE.job_manager.batch_defer_jobs(entries, connection=own)
    except AlreadyEnqueued as error:
        raise IntegrityError(said, None, error) from error
    except ConnectorException as error:
        raise OperationalError(said, None, error) from error


def remove_calls(session: Session, numbers: Sequence[int]) -> None:
    """Take webhook calls that no worker has begun out of the queue."""
    session.execute(_TAKE_OUT, {"locks": [lock_of_call(number) for number in numbers]})


def many_are_in_queue(session: Session) -> None:
    """Tell the database that its queue has grown: for all it knows it is as empty as it mostly is, and each worker's every
    question would go through all pairs of what waits."""
    session.execute(text("ANALYZE procrastinate_jobs"))


def has_worker(session: Session) -> bool:
    """Whether a worker has given a sign of life lately, on any machine."""
    return session.execute(_ALIVE).first() is not None


def left_alone(session: Session, which: ColumnElement[bool]) -> list[int]:
    """The open jobs among ``which`` that no worker does: waiting for longer than ``PATIENCE_S`` while there is no worker,
    or begun by a worker that has given no sign of life for as long."""
    past = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, PATIENCE_S)
    waits = Job.state.in_(("waiting", "stopping")) & (Job.created_at < past)
    begun = (Job.state == "running") & (Job.begun_at < past) & (Worker.id.is_(None) | (Worker.heard_at < past))
    found = select(Job.id).outerjoin(Worker, Worker.id == Job.worker_id).order_by(Job.id)
    waiting = [] if has_worker(session) else list(session.execute(found.where(which, waits)).scalars())
    return sorted({*waiting, *session.execute(found.where(which, begun)).scalars()})


def get_job(session: Session, number: int) -> Job:
    return found(session, Job, number, "work")


def stop(session: Session, number: int) -> None:
    """See :func:`stop_those`; raises NotFound where there is no such work."""
    get_job(session, number)
    stop_those(session, Job.id == number)


def stop_those(session: Session, which: ColumnElement[bool]) -> None:
    """Work that has not begun is stopped at once, work under way when it next tells its progress."""
    ended = update(Job).where(which, Job.state == "waiting").values(state="stopped", ended_at=func.now())
    stopped = list(session.execute(ended.returning(Job.id)).scalars())
    session.execute(_TAKE_OUT, {"locks": [lock_of_job(number) for number in stopped]})
    session.execute(update(Job).where(which, Job.state == "running").values(state="stopping"))


def resume(session: Session, which: ColumnElement[bool], states: Sequence[str] = ("stopped", "failed")) -> list[Job]:
    """Put jobs that were stopped or have failed back in the queue, to be done from their beginning."""
    again = list(session.execute(select(Job).where(which, Job.state.in_(states)).with_for_update()).scalars())
    for job in again:
        job.state, job.said, job.share, job.tries, job.begun_at, job.ended_at = "waiting", "", 0.0, 0, None, None
    session.flush()
    for job in again:
        put_in_queue(session, job)
    many_are_in_queue(session)
    return again


def resume_job(session: Session, number: int) -> Job:
    """See :func:`resume`. Raises NotFound, and BadInput where the job is neither stopped nor failed."""
    job = get_job(session, number)
    if not resume(session, Job.id == number):
        raise BadInput(
            f"Job {number} is {job.state}: only a job that was stopped or has failed can be resumed.", "nothing_to_do"
        )
    return job


def has_open_work(engine: Engine) -> bool:
    with every_show(engine) as session:
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
                anaxis_command("worker", "--owned"), stdin=subprocess.PIPE, env=environment
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
