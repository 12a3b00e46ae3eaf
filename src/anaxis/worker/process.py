"""The worker process: takes work from the queue, does it, and hands back what it cannot do."""

from __future__ import annotations

import asyncio
import logging
import os
import signal
import socket
import sys
import threading
import time
from collections.abc import Awaitable, Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from typing import Any

import procrastinate
from procrastinate.exceptions import ConnectorException
from procrastinate.jobs import Job as Entry
from procrastinate.jobs import Status
from procrastinate.manager import JobManager
from psycopg import Error as PsycopgError
from sqlalchemy import Engine, delete, func, update
from sqlalchemy.exc import SQLAlchemyError

from anaxis.app.notices.mail import send_waiting
from anaxis.app.retention import clear_out
from anaxis.app.webhooks.calls import give_up, send
from anaxis.formats.usd.write import begin as begin_usd
from anaxis.monitoring.logs import begin_logs
from anaxis.queue.jobs import CALL, CALL_QUEUE, MAIL, QUEUE, TASK, TryAgain, address_of
from anaxis.queue.reconcile import reconcile
from anaxis.sandbox.folders import settle
from anaxis.store.contents import check_setting
from anaxis.store.database import connect, fits
from anaxis.store.models import Worker
from anaxis.store.partitions import make_next_months
from anaxis.store.session import every_show
from anaxis.worker.attempt import do_job

_log = logging.getLogger("anaxis.worker")
_LOOK_S, _LOOK_EVERY_S, _RECONCILE_EVERY_S = 0.3, 3.0, 60.0
_SAYS_AFTER_LOOKS = 60
_ENDS_S, _AGAIN_S = 7.0, 2.0
# A worker that has given no sign of life for so long has ended, and its work is taken up again.
_GONE_AFTER_S = 10.0
_HEARD_EVERY_S, _FORGOTTEN_AFTER_S = 2.0, 3600.0
# So many different jobs that end in a row by faults that are not theirs: the fault is this process.
_FAULTY_AFTER = 3
_MOST_CALL_TRIES = 10
AT_ONCE = 2
# Calls wait for other people's servers: they have threads of their own.
_CALLS_AT_ONCE = 8
CLEAR = "anaxis.clear"


class Heard:
    """Tells the database, now and then, that this worker lives; its row goes when it ends, or long after it was killed."""

    def __init__(self, engine: Engine, at_once: int) -> None:
        self._engine, self.id = engine, 0
        told = {"host": socket.gethostname()[:120], "pid": os.getpid(), "at_once": at_once}
        with every_show(engine) as session, session.begin():
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


class Health:
    """Notices that the fault is this process: several different jobs in a row ended by faults that are not theirs."""

    def __init__(self) -> None:
        self._faults: dict[int, str] = {}
        self._lock = threading.Lock()
        self.faulty = threading.Event()

    def done(self) -> None:
        """A job had a result."""
        with self._lock:
            self._faults.clear()

    def fault(self, number: int, reason: str) -> None:
        with self._lock:
            self._faults[number] = reason
            if len(self._faults) >= _FAULTY_AFTER and not self.faulty.is_set():
                _log.error("jobs %s ended by faults that are not theirs (%s): this worker ends, to be started anew",
                           ", ".join(map(str, self._faults)), reason)  # fmt: skip
                self.faulty.set()


class Queue(JobManager):
    """procrastinate's own view of the queue, but for our entries: what records a job's result removes its entry."""

    async def finish_job(self, job: Entry, status: Status, delete_job: bool) -> None:
        if job.task_name not in (TASK, CALL):
            await super().finish_job(job, status, delete_job)


class Again(procrastinate.BaseRetryStrategy):
    """An entry whose work has no result stays in the queue, whatever ended the attempt."""

    def get_retry_decision(self, *, exception: BaseException, job: Entry) -> procrastinate.RetryDecision:
        wait_s = exception.wait_s if isinstance(exception, TryAgain) else _AGAIN_S
        return procrastinate.RetryDecision(retry_in={"seconds": max(1, round(wait_s))})


async def work(engine: Engine, at_once: int = AT_ONCE) -> None:
    """Do what comes, ``at_once`` at a time, until the process is ended. Raises Ended, and Faulty for :class:`Health`."""
    heard = Heard(engine, at_once)
    try:
        await _work(engine, at_once, heard.id)
    finally:
        heard.ended()


async def _work(engine: Engine, at_once: int, worker_id: int) -> None:
    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=address_of(engine), min_size=1, max_size=4)
    )
    app.job_manager = Queue(app.connector)
    health = Health()

    @app.task(name=TASK, queue=QUEUE, retry=Again(), pass_context=True)
    def do(context: procrastinate.JobContext, job_id: int) -> None:
        try:
            do_job(engine, job_id, worker_id, context.job.id)
        except TryAgain as error:
            if error.counts:
                health.fault(job_id, str(error))
            raise
        health.done()

    @app.task(name=CALL, queue=CALL_QUEUE, retry=Again(), pass_context=True)
    def call(context: procrastinate.JobContext, call_id: int) -> None:
        _call(engine, call_id, context.job)

    @app.task(name=MAIL, queue=CALL_QUEUE, retry=Again(), pass_context=True)
    def mail(context: procrastinate.JobContext, notice_id: int) -> None:
        send_waiting(engine, notice_id, context.job.attempts)

    @app.periodic(cron="17 * * * *")
    @app.task(name=CLEAR, queue=QUEUE, queueing_lock=CLEAR)
    def clear(timestamp: int) -> None:
        """Once an hour on one of the workers: what was kept for long enough goes, and the history gets its next months."""
        make_next_months(engine)
        clear_out(engine)

    async with app.open_async():
        working = asyncio.create_task(_both(app, at_once))
        beside = [
            asyncio.create_task(_every(_LOOK_EVERY_S, lambda: _take_up_again(app.job_manager))),
            asyncio.create_task(_every(_RECONCILE_EVERY_S, lambda: _reconcile(engine, app.job_manager))),
            asyncio.create_task(_end_faulty(health, working)),
        ]
        if threading.current_thread() is threading.main_thread():
            for asked in (signal.SIGTERM, signal.SIGINT):
                asyncio.get_running_loop().add_signal_handler(asked, _end_soon, working)
        try:
            await working
        except asyncio.CancelledError:
            raise (Faulty if health.faulty.is_set() else Ended) from None
        finally:
            for task in beside:
                task.cancel()


async def _both(app: procrastinate.App, at_once: int) -> None:
    """Do the jobs, and beside them make the calls; where one of the two ends, so does the other."""
    parts = [
        asyncio.create_task(
            app.run_worker_async(
                queues=[queue],
                concurrency=concurrency,
                fetch_job_polling_interval=1.0,
                delete_jobs="always",
                install_signal_handlers=False,
                update_heartbeat_interval=2.0,
                stalled_worker_timeout=_GONE_AFTER_S,
            )
        )
        for queue, concurrency in ((QUEUE, at_once), (CALL_QUEUE, _CALLS_AT_ONCE))
    ]
    try:
        await asyncio.gather(*parts)
    finally:
        for part in parts:
            part.cancel()
        await asyncio.gather(*parts, return_exceptions=True)


async def _every(seconds: float, look: Callable[[], Awaitable[Any]]) -> None:
    while True:
        with suppress(ConnectorException, SQLAlchemyError):  # the database is away: looked again when it is back
            await look()
        await asyncio.sleep(seconds)


async def _take_up_again(queue: JobManager) -> None:
    """Entries of workers that have ended."""
    for entry in await queue.get_stalled_jobs(seconds_since_heartbeat=_GONE_AFTER_S):
        await _give_back(queue, entry.id)


async def _reconcile(engine: Engine, queue: JobManager) -> None:
    for number in await asyncio.to_thread(reconcile, engine):
        await _give_back(queue, number)


async def _give_back(queue: JobManager, number: int | None) -> None:
    assert number is not None
    with suppress(ConnectorException):  # it has ended meanwhile, or another worker was first
        await queue.retry_job_by_id_async(number, retry_at=datetime.now(UTC))


async def _end_faulty(health: Health, working: asyncio.Task[None]) -> None:
    while not health.faulty.is_set():
        await asyncio.sleep(0.2)
    _end_soon(working, 1)


def _call(engine: Engine, number: int, entry: Entry) -> None:
    """One try to call a webhook. A fault of ours counts as a try, and the last one is recorded."""
    assert entry.id is not None
    try:
        send(engine, number, entry.id)
    except (TryAgain, PsycopgError):
        raise
    except Exception as error:
        _log.exception("webhook call %s failed", number)
        if entry.attempts + 1 < _MOST_CALL_TRIES:
            raise TryAgain(type(error).__name__, 4.0 ** min(entry.attempts + 1, 6)) from error
        give_up(engine, number, entry.id, f"an error in Anaxis itself ({type(error).__name__})")


class Ended(Exception):
    """The worker was asked to end, and has."""


class Faulty(Exception):
    """The worker ended itself, since the fault was its own."""


def _end_soon(working: asyncio.Task[None], status: int = 0) -> None:
    """Work under way may come to its end within a few seconds; else the next worker takes it up again."""
    over = threading.Timer(_ENDS_S, os._exit, (status,))
    over.daemon = True
    over.start()
    working.cancel()


def _end_with_owner() -> None:
    """The owner holds the other end of standard input: when that closes, this process is no longer wanted."""
    with suppress(OSError):
        sys.stdin.buffer.read()
    os._exit(0)


def _wait_for_tables(engine: Engine) -> None:
    """The pages bring the tables up to date; a worker that starts beside them waits until they are."""
    looks = 0
    while True:
        with suppress(SQLAlchemyError):
            if fits(engine):
                return
        looks += 1
        if looks == _SAYS_AFTER_LOOKS:
            _log.warning("waiting for the pages to bring the database's tables up to date")
        time.sleep(_LOOK_S)


def main(owned: bool = False, at_once: int = AT_ONCE) -> None:
    """Work until it is ended, ``at_once`` at a time; ``owned`` by another process, which holds its standard input open, with that one."""
    begin_logs()
    if owned:
        threading.Thread(target=_end_with_owner, daemon=True).start()
    settle()
    # Its library makes its registries when it is first used, and two jobs that do so at once wait for each other for ever.
    begin_usd()
    engine = connect(os.environ.get("DATABASE_URL", ""))
    _wait_for_tables(engine)
    check_setting(engine)
    while True:
        try:
            asyncio.run(work(engine, at_once))
            return
        except Ended:
            return
        except Faulty:
            sys.exit(1)
        except (ConnectorException, PsycopgError, SQLAlchemyError) as error:
            # The database was away, or this connection was ended: what waits is still there.
            _log.warning("the database does not answer (%s); trying again", " ".join(str(error).split())[:200])
            time.sleep(_AGAIN_S)
