"""One attempt at a job: begin it, run it, and record the result in the transaction that removes its queue entry.

An attempt ends in one of three ways. The job has a result (done, failed, stopped): the result and the removal of the
queue entry are one transaction. The attempt met a fault that is not the job's own (the database away, an import, memory,
the disk): :class:`TryAgain`, and the entry stays. The process was killed: the entry stays, and another worker takes it.
"""

from __future__ import annotations

import errno
import logging
import time
from collections.abc import Callable
from typing import Any

from sqlalchemy import Engine, func, select, text, update
from sqlalchemy.exc import DataError, InterfaceError, OperationalError, SQLAlchemyError

from anaxis.app.context import Context
from anaxis.app.long_work import KINDS, asked_by
from anaxis.app.roles import LOCAL
from anaxis.app.webhooks.events import emit_failed, emit_run_ended
from anaxis.core.errors import BadInput
from anaxis.monitoring.logs import about
from anaxis.queue.jobs import JOB_LOCK, OPEN, TryAgain, remove_entry
from anaxis.sandbox.turns import Busy
from anaxis.store.content_places import PlaceAway
from anaxis.store.database import REVISION
from anaxis.store.models import Job, Run
from anaxis.store.session import every_show

_log = logging.getLogger("anaxis.worker")
_TELL_EVERY_S = 0.15
# After so many attempts without a result, the job has failed: it would block a worker for ever.
MOST_TRIES = 8
_LONGEST_WAIT_S = 60
# An attempt that finds another one under way looks again after this time.
_OTHER_ATTEMPT_WAIT_S = 5
_NEWER_WORKER_WAIT_S = 5


class Stopped(Exception):
    """A person stopped the job, or a newer attempt has replaced this one."""


class Teller:
    """Saves a job's progress now and then. Raises Stopped where the attempt is no longer wanted."""

    def __init__(self, engine: Engine, number: int, tries: int) -> None:
        self._engine, self._number, self._tries, self._said = engine, number, tries, 0.0

    def __call__(self, share: float) -> None:
        now = time.monotonic()
        if now - self._said < _TELL_EVERY_S:
            return
        self._said = now
        with self._engine.begin() as connection:
            saved = update(Job).where(Job.id == self._number).values(share=share).returning(Job.state, Job.tries)
            if tuple(connection.execute(saved).one()) != ("running", self._tries):
                raise Stopped


def do_job(engine: Engine, number: int, worker_id: int | None = None, entry: int | None = None) -> None:
    """One attempt at a job. ``entry`` is the number of its queue entry, where it has one.

    An advisory lock keeps a second attempt out while one is under way, on any machine: a worker that is only late with
    its sign of life has not ended. Raises TryAgain where there is no result, and SQLAlchemyError where the database
    could not be asked.
    """
    with engine.connect() as connection:
        lock = {"kind": JOB_LOCK, "number": number}
        if not connection.execute(text("SELECT pg_try_advisory_lock(:kind, :number)"), lock).scalar_one():
            raise TryAgain("another attempt is under way", _OTHER_ATTEMPT_WAIT_S, counts=False)
        job = connection.execute(
            select(Job.request_id, Job.kind, Job.revision, Job.state).where(Job.id == number)
        ).first()
        connection.commit()
        try:
            if (
                job is not None
                and (job.revision > REVISION or job.kind not in KINDS)
                and job.state in ("waiting", "running")
            ):
                _leave(engine, number)
            with about(job=number, request=job.request_id if job else ""):
                _attempt(engine, number, worker_id, entry)
        finally:
            try:
                connection.execute(text("SELECT pg_advisory_unlock(:kind, :number)"), lock)
                connection.commit()
            except SQLAlchemyError:
                connection.invalidate()  # the lock ends with the connection


def _leave(engine: Engine, number: int) -> None:
    """Leave a job that a newer version of Anaxis requested to a worker of that version. Raises TryAgain."""
    said = "This job waits for a worker of the newer version that requested it: the workers that are running are older."
    with Context(engine, LOCAL) as session, session.begin():
        session.execute(update(Job).where(Job.id == number, Job.state == "waiting").values(said=said))
    raise TryAgain("a newer version asked for it", _NEWER_WORKER_WAIT_S, counts=False)


def _attempt(engine: Engine, number: int, worker_id: int | None, entry: int | None) -> None:
    tries = _begin(engine, number, worker_id, entry)
    if tries is None:
        return
    try:
        # One short transaction at its end: no connection is held while the result is computed.
        with Context(engine, LOCAL, releases=True, expire_on_commit=False) as session:
            job = session.get_one(Job, number)
            session.act_as(asked_by(job))
            began = time.monotonic()
            result = KINDS[job.kind](session, job, Teller(engine, number, tries))
            _log.info("job %s done", number, extra={"kind": job.kind, "ms": round((time.monotonic() - began) * 1000)})
            if not _record(session, number, tries, entry, state="done", share=1.0, result=result):
                raise Stopped
            session.commit()
    except Stopped:
        _end(engine, number, tries, entry, "stopped", "")
    except Exception as error:
        reason = fault_of(error)
        if reason is None:
            _end(engine, number, tries, entry, "failed", _sentence_of(error, number))
            return
        _log.warning("job %s, attempt %s: %s", number, tries, reason, exc_info=error)
        place_away = isinstance(error, PlaceAway)
        if tries >= MOST_TRIES and not place_away:
            _end(
                engine,
                number,
                tries,
                entry,
                "failed",
                f"{reason} Anaxis tried {tries} times: see the log of the worker, then resume.",
            )
            return
        _wait_for_another(engine, number, tries, reason, counts=not place_away)
        away = place_away or isinstance(error, OperationalError | InterfaceError)
        raise TryAgain(reason, min(2**tries, _LONGEST_WAIT_S), counts=not away) from error


def _begin(engine: Engine, number: int, worker_id: int | None, entry: int | None) -> int | None:
    """Mark the job as running; the number of this attempt, or None where there is nothing to do."""
    with Context(engine, LOCAL) as session, session.begin():
        state, tries = session.execute(
            select(Job.state, Job.tries).where(Job.id == number).with_for_update()
        ).one_or_none() or ("gone", 0)
        if state in ("waiting", "running") and tries < MOST_TRIES:
            begun = update(Job).where(Job.id == number)
            session.execute(
                begun.values(
                    state="running", said="", tries=tries + 1, worker_id=worker_id, begun_at=func.now(), ended_at=None
                )
            )
            return tries + 1
        if state in ("waiting", "running"):
            said = f"The worker ended {tries} times during this work: see the log of the worker, then resume."
            _record_failed(session, number, tries, entry, said)
        elif state == "stopping":
            _record(session, number, tries, entry, state="stopped")
        else:
            remove_entry(session, entry)
        return None


def _record(session: Context, number: int, tries: int, entry: int | None, **result: Any) -> bool:
    """Write the job's result and remove its queue entry, in the session's transaction; whether this attempt may.

    A done job must still be running; a job that is stopping can only be stopped or have failed.
    """
    states = ("running",) if result["state"] == "done" else OPEN
    mine = update(Job).where(Job.id == number, Job.state.in_(states), Job.tries == tries)
    if not session.execute(mine.values(ended_at=func.now(), **result).returning(Job.id)).first():
        return False
    remove_entry(session, entry)
    _tell_end_of_run(session, number)
    return True


def _tell_end_of_run(session: Context, number: int) -> None:
    """Where a run's last job ends, say so. Two jobs that end at once wait for each other, so that one of them is the last."""
    run_id = session.execute(select(Job.run_id).where(Job.id == number)).scalar()
    if run_id is None:
        return
    run = session.execute(select(Run).where(Run.id == run_id).with_for_update()).scalar_one()
    counted = select(Job.state, func.count()).where(Job.run_id == run_id).group_by(Job.state)
    states: dict[str, int] = {row.state: row[1] for row in session.execute(counted)}
    if not any(states.get(s) for s in OPEN):
        emit_run_ended(session, run, states)


def _record_failed(session: Context, number: int, tries: int, entry: int | None, said: str) -> None:
    if _record(session, number, tries, entry, state="failed", said=said):
        emit_failed(session, session.get_one(Job, number))


def _end(engine: Engine, number: int, tries: int, entry: int | None, state: str, said: str) -> None:
    with Context(engine, LOCAL) as session, session.begin():
        if state == "failed":
            _record_failed(session, number, tries, entry, said)
        else:
            _record(session, number, tries, entry, state=state, said=said)


def _wait_for_another(engine: Engine, number: int, tries: int, reason: str, counts: bool) -> None:
    """Say on the job that it waits for its next attempt, and why. An attempt that does not count is made as often as needed."""
    with every_show(engine) as session, session.begin():
        mine = update(Job).where(Job.id == number, Job.state == "running", Job.tries == tries)
        said = f"{reason} Anaxis tries again shortly."
        session.execute(mine.values(state="waiting", said=said, share=0.0, tries=tries if counts else tries - 1))


_FAULTS: list[tuple[type[BaseException], Callable[[Any], str]]] = [
    (OperationalError, lambda e: "The database did not answer."),
    (InterfaceError, lambda e: "The database did not answer."),
    (SQLAlchemyError, lambda e: f"The worker could not use the database ({type(e).__name__})."),
    (ImportError, lambda e: f"The worker could not load {e.name or 'a part of Anaxis'}: its installation may be damaged."),
    (MemoryError, lambda e: "The worker ran out of memory."),
    (
        OSError,
        lambda e: "The disk of the worker is full." if e.errno in (errno.ENOSPC, errno.EDQUOT)
        else f"The machine of the worker refused an operation ({e.strerror or type(e).__name__}).",
    ),
    (Busy, lambda e: "All readers of the worker were busy."),
    (PlaceAway, lambda e: e.sentence),
]  # fmt: skip


def fault_of(error: BaseException) -> str | None:
    """What is wrong around the job, in a sentence; None where the job itself is at fault, so that it fails again."""
    if isinstance(error, DataError):  # a value of the job's own that the database cannot hold
        return None
    return next((say(error) for kind, say in _FAULTS if isinstance(error, kind)), None)


def _sentence_of(error: Exception, number: int) -> str:
    if isinstance(error, BadInput):
        return error.sentence
    _log.error("job %s failed", number, exc_info=error)
    return "An error in Anaxis ended this work. Nothing was saved. See the log of the worker."
