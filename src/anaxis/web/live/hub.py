"""What the database says has just been kept, told to whoever waits for it in this server.

The database is asked by one connection of this server's (LISTEN). What it says comes after what it is about is kept, and
from all servers alike. Where the connection was lost something may have been missed: then everybody looks again.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections import Counter
from collections.abc import Callable, Coroutine, Iterable, Iterator
from typing import Any, Protocol, TypeVar

import psycopg
from anyio import CapacityLimiter, to_thread
from sqlalchemy import Engine

from anaxis.app.context import Context, Sandbox
from anaxis.app.exchange.cells import CameraState
from anaxis.app.exchange.takes import due_moments, keep_moment
from anaxis.app.mirrors import Mirrors
from anaxis.app.roles import LOCAL, VISITOR, Actor
from anaxis.core.errors import BadInput
from anaxis.library.runner import Runner
from anaxis.store.exchange import NOTIFIED

R = TypeVar("R")
_log = logging.getLogger("anaxis.live")
_AGAIN_S = 0.5
# Everything is looked at again so often, should the database have told nothing.
LOOK_AGAIN_S = 5.0
# Threads for changes, and others for pages that watch: however many watch, a change is kept without waiting for them.
_CHANGES_AT_ONCE, _WATCHED_AT_ONCE = 8, 4


# Why a socket is closed, as web sockets have it: for what it said, or to be opened again.
POLICY, AGAIN = 1008, 1013


def close_reason(sentence: str) -> str:
    """A sentence as the reason of a closed socket, which holds 123 bytes at most."""
    return sentence.encode()[:123].decode(errors="ignore")


async def first_to_end(*running: Coroutine[Any, Any, None]) -> BaseException | None:
    """Run them together until one ends, and end the others; what it ended by, None where it came to its end."""
    tasks = [asyncio.create_task(r) for r in running]
    done, others = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    for task in others:
        task.cancel()
    await asyncio.gather(*others, return_exceptions=True)
    return next(iter(done)).exception()


class TooManyOpen(BadInput):
    """Somebody has as many connections open as one person may have: close one."""

    code = "too_many_open"


class ActsAs(Protocol):
    """Who acts in a transaction, as of that transaction."""

    def __call__(self, session: Context) -> Actor: ...


class Waiter:
    """What has happened since it was last asked; "" stands for: look at everything."""

    def __init__(self) -> None:
        self._happened: dict[str, None] = {}
        self._event = asyncio.Event()

    def tell(self, what: str) -> None:
        self._happened[what] = None
        self._event.set()

    async def next(self, timeout_s: float = LOOK_AGAIN_S) -> list[str]:
        """What happened, as soon as something did; [""] after a while in which nothing did."""
        try:
            # asyncio.wait_for of this Python can lose a cancellation that comes with the event.
            async with asyncio.timeout(timeout_s):
                await self._event.wait()
        except TimeoutError:
            return [""]
        self._event.clear()
        out, self._happened = list(self._happened), {}
        return out


class Hub:
    """The live side of one server: who waits for what, and what its connections share."""

    def __init__(self, engine: Engine) -> None:
        self.engine, self.mirrors = engine, Mirrors[CameraState]()
        self.calculators: Runner | None = None  # who works out apart what a version takes, once there is somebody
        self._waiters: dict[str, set[Waiter]] = {}
        self._tasks: list[asyncio.Task[None]] = []
        self._changes, self._watched = CapacityLimiter(_CHANGES_AT_ONCE), CapacityLimiter(_WATCHED_AT_ONCE)
        self._open: Counter[str] = Counter()

    def begin(self) -> None:
        self._tasks = [asyncio.create_task(self._listen()), asyncio.create_task(self._moments())]

    async def end(self) -> None:
        pending = set(self._tasks)
        while pending:  # a cancellation can be lost while a connection to the database is in transit: it is repeated
            for task in pending:
                task.cancel()
            _, pending = await asyncio.wait(pending, timeout=1.0)

    @contextlib.contextmanager
    def waiting_for(self, *what: str) -> Iterator[Waiter]:
        waiter = Waiter()
        self.listen_to(waiter, what)
        try:
            yield waiter
        finally:
            for held in self._waiters.values():
                held.discard(waiter)

    def listen_to(self, waiter: Waiter, what: Iterable[str]) -> None:
        for key in what:
            self._waiters.setdefault(key, set()).add(waiter)

    def tell(self, event: str) -> None:
        """``h5:1010`` is told to whoever waits for ``h5``."""
        for waiter in self._waiters.get(event.partition(":")[0], ()):
            waiter.tell(event)

    def everybody(self) -> None:
        for waiter in {w for held in self._waiters.values() for w in held}:
            waiter.tell("")

    def require_room(self, most: int, kind: str, person: int | None) -> str:
        """What connections of a kind of a person are counted by. Raises TooManyOpen where ``most`` are open."""
        key = f"{kind} {person}"
        if self._open.get(key, 0) >= most:
            raise TooManyOpen(
                f"{most} connections of this kind are open for you, which is the maximum: close some, then try again."
            )
        return key

    @contextlib.contextmanager
    def one_of(self, most: int, kind: str, person: int | None) -> Iterator[None]:
        """One open connection of a kind of a person (None: whoever has the database), of ``most`` at once. Raises TooManyOpen."""
        key = self.require_room(most, kind, person)
        self._open[key] += 1
        try:
            yield
        finally:
            self._open[key] -= 1
            if not self._open[key]:
                del self._open[key]

    def open_by_kind(self) -> dict[str, int]:
        """How many connections of each kind are open."""
        out: Counter[str] = Counter()
        for key, count in self._open.items():
            out[key.split(" ", 1)[0]] += count
        return out

    async def work(
        self, function: Callable[..., R], *args: Any, actor: Actor | ActsAs, watches: bool = False, **kwargs: Any
    ) -> R:
        """A use case in a thread, in a transaction of its own, as somebody. What it returns must not need the session.

        ``watches``: it only looks, and keeps no change waiting.
        """

        def done() -> R:
            sandbox = Sandbox(self.calculators) if self.calculators is not None else None
            with (
                Context(self.engine, VISITOR, sandbox=sandbox, mirrors=self.mirrors, expire_on_commit=False) as session,
                session.begin(),
            ):
                session.act_as(actor if isinstance(actor, Actor) else actor(session))
                return function(session, *args, **kwargs)

        return await to_thread.run_sync(done, limiter=self._watched if watches else self._changes)

    async def _listen(self) -> None:
        address = self.engine.url.set(drivername="postgresql").render_as_string(hide_password=False)
        well = True
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    address, autocommit=True, connect_timeout=5
                ) as connection:
                    await connection.execute(f"LISTEN {NOTIFIED}")
                    self.everybody()
                    well = True
                    async for notice in connection.notifies():
                        self.tell(notice.payload)
            except (psycopg.Error, OSError) as error:
                if well:
                    _log.warning("the database is not heard of (%s); asked again", type(error).__name__)
                well = False
            await asyncio.sleep(_AGAIN_S)

    async def _moments(self) -> None:
        """Versions of links that want one every so many seconds."""
        well = True
        while True:
            await asyncio.sleep(1.0)
            try:
                for sentence in await self.work(_keep_due, actor=LOCAL):
                    _log.warning("a link's version was not kept: %s", sentence)
                well = True
            except Exception as error:  # the database is away, or a lock was: the next second asks again
                if well:
                    _log.warning("links' versions wait (%s)", type(error).__name__)
                well = False


def _keep_due(session: Context) -> list[str]:
    said = []
    for link in due_moments(session):
        session.act_as(Actor(link.actor, LOCAL.everywhere))
        try:
            with session.begin_nested():
                keep_moment(session, link, f"saved while linked ({link.name}), every {link.every_s} s")
        except BadInput as error:
            said.append(error.sentence)
    return said
