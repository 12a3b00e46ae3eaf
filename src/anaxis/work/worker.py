"""The worker process: does what stands in the queue, tells how far it is, stops when it is asked to."""

from __future__ import annotations

import asyncio
import logging
import os
import signal
import socket
import sys
import threading
import time
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from importlib import import_module

import procrastinate
from procrastinate.exceptions import ConnectorException
from psycopg import Error as PsycopgError
from sqlalchemy import Engine, delete, func, text, update
from sqlalchemy.exc import InterfaceError, OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.store.database import connect
from anaxis.store.models import Job, Worker
from anaxis.work.queue import CALL, OPEN, QUEUE, TASK, NotTaken, address_of
from anaxis.work.sandbox.folders import settle

_log = logging.getLogger("anaxis.worker")
_TELL_EVERY_S = 0.15
_LOOK_EVERY_S = 3.0
_ENDS_S, _AGAIN_S = 7.0, 2.0
_JOB_LOCK = 7_204_115
# A worker that has not been heard of for so long is gone, and its work is taken up again.
_GONE_AFTER_S = 10.0
_HEARD_EVERY_S, _FORGOTTEN_AFTER_S = 2.0, 3600.0
AT_ONCE = 2
CLEAR = "anaxis.clear"


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


def do_job(engine: Engine, number: int, worker_id: int | None = None) -> None:
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
            _do(engine, number, worker_id)
        finally:
            connection.execute(text("SELECT pg_advisory_unlock(:kind, :number)"), lock)
            connection.commit()


def _do(engine: Engine, number: int, worker_id: int | None) -> None:
    with Session(engine) as session, session.begin():
        begun = update(Job).where(Job.id == number, Job.state.in_(("waiting", "running")))
        told = begun.values(state="running", worker_id=worker_id, begun_at=func.now(), ended_at=None)
        if not session.execute(told.returning(Job.id)).first():
            session.execute(update(Job).where(Job.id == number, Job.state == "stopping").values(state="stopped"))
            return
    try:
        # What the work needs is loaded once it is there: until then it is told apart from work nobody took up.
        long_work = import_module("anaxis.app.long_work")
        # One short transaction at its end: no connection is held while it is worked out.
        with Session(engine, expire_on_commit=False, info={"lets_go": True}) as session:
            job = session.get_one(Job, number)
            session.info["actor"] = long_work.asked_by(job)
            result = long_work.KINDS[job.kind](session, job, Teller(engine, number))
            done = update(Job).where(Job.id == number, Job.state == "running")
            if not session.execute(
                done.values(state="done", share=1.0, result=result, ended_at=func.now()).returning(Job.id)
            ).first():
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
    with Session(engine) as session, session.begin():
        ended = update(Job).where(Job.id == number, Job.state.in_(OPEN)).returning(Job.id)
        over = session.execute(ended.values(state=state, said=said, ended_at=func.now())).first()
        if over is not None and state == "failed":
            import_module("anaxis.app.telling").tell_failed(session, session.get_one(Job, number))


class Heard:
    """Tells the database, now and then, that this worker lives; its row goes when it ends, or long after it was killed."""

    def __init__(self, engine: Engine, at_once: int) -> None:
        self._engine, self.id = engine, 0
        told = {"host": socket.gethostname()[:120], "pid": os.getpid(), "at_once": at_once}
        with Session(engine) as session, session.begin():
            gone = datetime.now(UTC) - timedelta(seconds=_FORGOTTEN_AFTER_S)
            session.execute(delete(Worker).where(Worker.heard_at < gone))
            row = Worker(**told)
            session.add(row)
            session.flush()
            self.id = row.id
        self._over = threading.Event()
        threading.Thread(target=self._tell, daemon=True).start()

    def _tell(self) -> None:
        while not self._over.wait(_HEARD_EVERY_S):
            with suppress(SQLAlchemyError), self._engine.begin() as connection:
                connection.execute(update(Worker).where(Worker.id == self.id).values(heard_at=func.now()))

    def ended(self) -> None:
        self._over.set()
        with suppress(SQLAlchemyError), self._engine.begin() as connection:
            connection.execute(delete(Worker).where(Worker.id == self.id))


async def work(engine: Engine, at_once: int = AT_ONCE) -> None:
    """Do what comes, ``at_once`` at a time, until the process is ended."""
    heard = Heard(engine, at_once)
    try:
        await _work(engine, at_once, heard.id)
    finally:
        heard.ended()


# Trouble on the way to the database is no fault of the work: it is tried again.
_AGAIN = procrastinate.RetryStrategy(max_attempts=6, wait=2, retry_exceptions={OperationalError, InterfaceError})

# Told again after 4, 16, 64 s and so on, up to some five hours in all.
_TOLD_AGAIN = procrastinate.RetryStrategy(
    max_attempts=10, exponential_wait=4, retry_exceptions={NotTaken, OperationalError, InterfaceError}
)


async def _work(engine: Engine, at_once: int, worker_id: int) -> None:
    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=address_of(engine), min_size=1, max_size=4)
    )

    @app.task(name=TASK, queue=QUEUE, retry=_AGAIN)
    def do(job_id: int) -> None:
        do_job(engine, job_id, worker_id)

    @app.task(name=CALL, queue=QUEUE, retry=_TOLD_AGAIN)
    def call(call_id: int) -> None:
        import_module("anaxis.app.hooks").send(engine, call_id)

    @app.periodic(cron="17 * * * *")
    @app.task(name=CLEAR, queue=QUEUE, queueing_lock=CLEAR)
    def clear(timestamp: int) -> None:
        """Once an hour on one of the workers: what was kept for long enough goes."""
        import_module("anaxis.app.retention").clear_out(engine)

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
                concurrency=at_once,
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


def main(owned: bool = False, at_once: int = AT_ONCE) -> None:
    """Work until it is ended, ``at_once`` at a time; ``owned`` by another process, which holds its standard input open, with that one."""
    logging.basicConfig(level=logging.WARNING, format="%(name)s: %(message)s")
    if owned:
        threading.Thread(target=_end_with_owner, daemon=True).start()
    settle()
    # Its library makes its registries when it is first used, and two jobs that do so at once wait for each other for ever.
    import_module("anaxis.formats.usd.write").begin()
    engine = connect(os.environ.get("DATABASE_URL", ""))
    while True:
        try:
            asyncio.run(work(engine, at_once))
            return
        except Ended:
            return
        except (ConnectorException, PsycopgError, SQLAlchemyError) as error:
            # The database was away, or this connection was ended: what waits is still there.
            _log.warning("the database does not answer (%s); trying again", " ".join(str(error).split())[:200])
            time.sleep(_AGAIN_S)
