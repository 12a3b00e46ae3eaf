"""Who comes next where few can be served at once: one of each client in turn, a short queue, and a word when it is full."""

from __future__ import annotations

import threading
from collections import OrderedDict, deque
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from anaxis.core.errors import BadInput

# Whom the work at hand is for; set where requests come in.
client: ContextVar[str] = ContextVar("client", default="")


class Busy(BadInput):
    """Everything is taken, and waiting longer would help nobody."""


class Turns:
    """``slots`` at once; ``waiting`` more stand in a queue for ``wait_s`` at most."""

    def __init__(self, slots: int, waiting: int = 24, wait_s: float = 20.0) -> None:
        self._free, self._most, self._wait_s = slots, waiting, wait_s
        self._lock = threading.Lock()
        self._queue: OrderedDict[str, deque[threading.Event]] = OrderedDict()

    @contextmanager
    def turn(self) -> Iterator[None]:
        """Wait for one's turn. Raises Busy where the queue is full, or one stood in it for too long."""
        self._take()
        try:
            yield
        finally:
            self._give()

    def _take(self) -> None:
        who, ticket = client.get(), threading.Event()
        with self._lock:
            if self._free and not self._queue:
                self._free -= 1
                return
            if sum(map(len, self._queue.values())) >= self._most:
                raise Busy("Many files are being read right now: try again in a minute. Nothing was changed.")
            self._queue.setdefault(who, deque()).append(ticket)
        if ticket.wait(self._wait_s):
            return
        with self._lock:
            if ticket.is_set():  # called at the last moment
                return
            self._queue[who].remove(ticket)
            if not self._queue[who]:
                del self._queue[who]
        raise Busy(
            f"Files of others have been processed first for {self._wait_s:.0f} s: try again in a minute. Nothing was changed."
        )

    def _give(self) -> None:
        with self._lock:
            if not self._queue:
                self._free += 1
                return
            who, tickets = next(iter(self._queue.items()))
            ticket = tickets.popleft()
            del self._queue[who]
            if tickets:  # the next of the same client stands behind everybody else's
                self._queue[who] = tickets
            ticket.set()
