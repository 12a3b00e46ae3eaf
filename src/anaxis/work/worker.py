"""The worker process: does what stands in the queue, tells how far it is, stops when it is asked to."""

from __future__ import annotations

import asyncio
import logging
import os
import signal
import sys
import threading
import time
from contextlib import suppress
from importlib import import_module

import procrastinate
from procrastinate.exceptions import ConnectorException
from psycopg import Error as PsycopgError
from sqlalchemy import Engine, text, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.store.database import connect
from anaxis.store.models import Job
from anaxis.work.queue import OPEN, QUEUE, TASK, address_of
from anaxis.work.sandbox.folders import settle

_log = logging.getLogger("anaxis.worker")
_TELL_EVERY_S = 0.15
_LOOK_EVERY_S = 3.0
_ENDS_S, _AGAIN_S = 7.0, 2.0
_JOB_LOCK = 7_204_115
# A worker that has not been heard of for so long is gone, and its work is taken up again.
_GONE_AFTER_S = 10.0


class Stopped(Exception):
    """Somebody stopped the work."""


class Teller:
    """Writes how far a job is, now and then, and learns whether it is to stop."""

    def __init__(self, engine: Engine, number: int) -> None:
        self._engine, self._number, self._said = engine, number, 0.0

    def __call__(self, share: float) -> None:
        now = time.monotonic()
        if now - self._said < _TELL_EVERY_S:
            return
        self._said = now
        with self._engine.begin() as connection:
            share_kept = update(Job).where(Job.id == self._number).values(share=share).returning(Job.state)
            if connection.execute(share_kept).scalar_one() != "running":
                raise Stopped


def do_job(engine: Engine, number: int) -> None:
    """Do one job, once: what comes of it and that it is done are kept together or not at all.

    Whoever takes it up while another is at it, on any machine, leaves it to that one: a worker that was only slow to
    say that it lives is not gone.
    """
    with engine.connect() as connection:
        lock = {"kind": _JOB_LOCK, "number": number}
        if not connection.execute(text("SELECT pg_try_advisory_lock(:kind, :number)"), lock).scalar_one():
            return
        connection.commit()
        try:
            _do(engine, number)
        finally:
            connection.execute(text("SELECT pg_advisory_unlock(:kind, :number)"), lock)
            connection.commit()


def _do(engine: Engine, number: int) -> None:
    with Session(engine) as session, session.begin():
        begun = update(Job).where(Job.id == number, Job.state.in_(("waiting", "running")))
        if not session.execute(begun.values(state="running").returning(Job.id)).first():
            session.execute(update(Job).where(Job.id == number, Job.state == "stopping").values(state="stopped"))
            return
    try:
        # What the work needs is loaded once it is there: until then it is told apart from work nobody took up.
        kinds = import_module("anaxis.app.long_work").KINDS
        # One short transaction at its end: no connection is held while it is worked out.
        with Session(engine, expire_on_commit=False, info={"lets_go": True}) as session:
            job = session.get_one(Job, number)
            result = kinds[job.kind](session, job, Teller(engine, number))
            done = update(Job).where(Job.id == number, Job.state == "running")
            if not session.execute(done.values(state="done", share=1.0, result=result).returning(Job.id)).first():
                raise Stopped
            session.commit()
    except Stopped:
        _end(engine, number, "stopped", "")
    except BadInput as error:
        _end(engine, number, "failed", error.sentence)
    except Exception:
        _log.exception("work %s failed", number)
        _end(
            engine,
            number,
            "failed",
            "Something in Anaxis itself failed, and nothing of it was kept: the server's log says what.",
        )


def _end(engine: Engine, number: int, state: str, said: str) -> None:
    with engine.begin() as connection:
        connection.execute(update(Job).where(Job.id == number, Job.state.in_(OPEN)).values(state=state, said=said))


async def work(engine: Engine) -> None:
    """Do what comes until the process is ended."""
    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=address_of(engine), min_size=1, max_size=4)
    )

    @app.task(name=TASK, queue=QUEUE)
    def do(job_id: int) -> None:
        do_job(engine, job_id)

    async def take_up_again() -> None:
        while True:
            with suppress(ConnectorException):  # the database is away: looked again when it is back
                for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=_GONE_AFTER_S):
                    await app.job_manager.retry_job(job)
            await asyncio.sleep(_LOOK_EVERY_S)

    async with app.open_async():
        looking = asyncio.create_task(take_up_again())
        working = asyncio.create_task(
            app.run_worker_async(
                queues=[QUEUE],
                concurrency=2,
                fetch_job_polling_interval=1.0,
                delete_jobs="always",
                install_signal_handlers=False,
                update_heartbeat_interval=2.0,
                stalled_worker_timeout=_GONE_AFTER_S,
            )
        )
        if threading.current_thread() is threading.main_thread():
            for asked in (signal.SIGTERM, signal.SIGINT):
                asyncio.get_running_loop().add_signal_handler(asked, _end_soon, working)
        try:
            await working
        except asyncio.CancelledError:
            raise Ended from None
        finally:
            looking.cancel()


class Ended(Exception):
    """The worker was asked to end, and has."""


def _end_soon(working: asyncio.Task[None]) -> None:
    """What is being done may come to its end, within a few seconds; else it is taken up again by the next worker."""
    over = threading.Timer(_ENDS_S, os._exit, (0,))
    over.daemon = True
    over.start()
    working.cancel()


def _end_with_owner() -> None:
    """The owner holds the other end of standard input: when that closes, this process is no longer wanted."""
    with suppress(OSError):
        sys.stdin.buffer.read()
    os._exit(0)


def main(owned: bool = False) -> None:
    """Work until it is ended; ``owned`` by another process, which holds its standard input open, with that one."""
    logging.basicConfig(level=logging.WARNING, format="%(name)s: %(message)s")
    if owned:
        threading.Thread(target=_end_with_owner, daemon=True).start()
    settle()
    engine = connect(os.environ.get("DATABASE_URL", ""))
    while True:
        try:
            asyncio.run(work(engine))
            return
        except Ended:
            return
        except (ConnectorException, PsycopgError, SQLAlchemyError) as error:
            # The database was away, or this connection was ended: what waits is still there.
            _log.warning("the database does not answer (%s); trying again", " ".join(str(error).split())[:200])
            time.sleep(_AGAIN_S)
