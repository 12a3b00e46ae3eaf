"""Connections whose request never begins: closed after a while, so that thousands of them keep nobody out."""

from __future__ import annotations

import asyncio
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

# So long may the head of a request take, from its first byte, or from the connection's begin.
HEAD_S = 10.0


class TimedHeads(H11Protocol):
    """HTTP/1.1 as uvicorn speaks it, but for heads that trickle in: it knows a time for connections that are idle alone."""

    _over: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        begun = self.cycle is not None and not self.cycle.response_complete
        if begun or self.transport.is_closing():
            self._stop()
        else:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop()
        super().connection_lost(exc)

    def _wait(self) -> None:
        if self._over is None:
            self._over = self.loop.call_later(HEAD_S, self.transport.close)

    def _stop(self) -> None:
        if self._over is not None:
            self._over.cancel()
            self._over = None
