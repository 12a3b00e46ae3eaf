"""A request's body is counted and timed as it comes, and only so many are open at once.

One that does not say how long it is passes no limit; one that trickles in does not keep its place; one client's many
uploads leave room for everybody else's.
"""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass

from starlette.types import ASGIApp, Message, Receive, Scope, Send


@dataclass(frozen=True)
class BodyLimits:
    """``most_bytes`` of one body; ``open_each`` bodies at once of one client and ``open_all`` of all; each may take
    ``grace_s`` and then comes in at ``least_bytes_s`` at least, with pauses of ``pause_s`` at most."""

    most_bytes: int
    open_each: int = 12
    open_all: int = 60
    grace_s: float = 20.0
    pause_s: float = 15.0
    least_bytes_s: float = 8_000.0


class _Refused(Exception):
    def __init__(self, status: int, sentence: str) -> None:
        self.status, self.sentence = status, sentence


class Bodies:
    """Ends a request whose body grows too long, comes too slowly or is one too many, before more of it is taken."""

    def __init__(self, app: ASGIApp, limits: BodyLimits) -> None:
        self.app, self.limits = app, limits
        self._open: Counter[str] = Counter()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD"):
            await self.app(scope, receive, send)
            return
        refused: _Refused | None = None
        begun, whole, counted_in = False, False, False
        taken, since, who = 0, time.monotonic(), (scope.get("client") or ("",))[0]

        async def counted() -> Message:
            nonlocal taken, refused, whole
            if whole:  # what still comes is that the client has gone
                return await receive()
            try:
                message = await asyncio.wait_for(receive(), self.limits.pause_s)
                taken += len(message.get("body", b""))
                self._require(taken, time.monotonic() - since)
            except TimeoutError:
                refused = _Refused(408, "Nothing more of what was sent came for a while: send it again.")
                raise refused from None
            except _Refused as error:
                refused = error
                raise
            if not message.get("more_body", False):
                whole = True
                leave()
            return message

        async def answered(message: Message) -> None:
            nonlocal begun
            if refused is None:
                begun = True
                await send(message)

        def leave() -> None:
            nonlocal counted_in
            if counted_in:
                counted_in = False
                self._open[who] -= 1
                if not self._open[who]:
                    del self._open[who]

        try:
            if self._open[who] >= self.limits.open_each or self._open.total() >= self.limits.open_all:
                refused = _Refused(
                    503, "Many files are being sent right now: try again in a minute. Nothing was changed."
                )
            else:
                self._open[who] += 1
                counted_in = True
                with suppress(_Refused):
                    await self.app(scope, counted, answered)
        finally:
            leave()
        if refused is not None and not begun:
            await _say(send, refused)

    def _require(self, taken: int, seconds: float) -> None:
        if taken > self.limits.most_bytes:
            raise _Refused(
                413,
                "What was sent is larger than the limit for a file: send a smaller one, or raise the limit "
                "(ANAXIS_MAX_FILE_MB).",
            )
        if seconds > self.limits.grace_s and taken < (seconds - self.limits.grace_s) * self.limits.least_bytes_s:
            raise _Refused(408, "What was sent came too slowly and was given up: send it again over a faster line.")


async def _say(send: Send, refused: _Refused) -> None:
    head = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
    if refused.status == 503:
        head.append((b"retry-after", b"30"))
    await send({"type": "http.response.start", "status": refused.status, "headers": head})
    await send({"type": "http.response.body", "body": refused.sentence.encode()})
