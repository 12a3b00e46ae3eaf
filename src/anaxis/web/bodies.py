"""Bodies of requests: nothing is read before somebody is signed in; then it is counted and timed, and few are open at once.

A body that does not state its length passes no limit. A body that trickles in does not keep its place. Many uploads of one
person leave room for everybody else's, and what is sent to sign in has places of its own.
"""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass

from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from anaxis.app.context import Context
from anaxis.app.people.sign_in import NotSignedIn
from anaxis.app.roles import VISITOR
from anaxis.web.signed import actor_of_request

_SAFE = ("GET", "HEAD", "OPTIONS")
# What whoever comes may send.
_OPEN = ("/sign-in", "/sign-in/code", "/welcome")
# Who sends, in the scope of a request: a person, or an address where nobody has to be signed in.
_SENDER = "anaxis.sender"


@dataclass(frozen=True)
class BodyLimits:
    """``most_bytes`` of one body with files, ``json_bytes`` and ``form_bytes`` of one without, which is parsed where nothing
    may take long; ``open_each`` bodies at once of one person and ``open_all`` of all; each may take ``grace_s`` and then
    comes in at ``least_bytes_s`` at least, with pauses of ``pause_s`` at most."""

    most_bytes: int
    json_bytes: int = 1_000_000
    form_bytes: int = 2_000_000
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
        most = self._most(Headers(scope=scope).get("content-type", ""))
        taken, since, who = 0, time.monotonic(), scope.get(_SENDER) or _address(scope)
        waiting_room = who.startswith(_SIGNS_IN)

        async def counted() -> Message:
            nonlocal taken, refused, whole
            if whole:  # what still comes is that the client has gone
                return await receive()
            try:
                message = await asyncio.wait_for(receive(), self.limits.pause_s)
                taken += len(message.get("body", b""))
                self._require(taken, most, time.monotonic() - since)
            except TimeoutError:
                refused = _Refused(408, "The upload stopped: upload again.")
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
            alike = sum(n for name, n in self._open.items() if name.startswith(_SIGNS_IN) == waiting_room)
            if self._open[who] >= self.limits.open_each or alike >= self.limits.open_all:
                refused = _Refused(
                    503, "Many files are being uploaded right now. Nothing was changed: try again in a minute."
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

    def _most(self, content: str) -> int:
        kind = content.partition(";")[0].strip().lower()
        if kind == "multipart/form-data":
            return self.limits.most_bytes
        return self.limits.form_bytes if kind == "application/x-www-form-urlencoded" else self.limits.json_bytes

    def _require(self, taken: int, most: int, seconds: float) -> None:
        if taken > most:
            remedy = "raise the limit (ANAXIS_MAX_FILE_MB)" if most == self.limits.most_bytes else "send it as a file"
            raise _Refused(413, f"The upload is larger than {most / 1e6:.0f} MB: send less, or {remedy}.")
        if seconds > self.limits.grace_s and taken < (seconds - self.limits.grace_s) * self.limits.least_bytes_s:
            raise _Refused(408, "The upload was too slow and was stopped: upload again over a faster connection.")


class SignedInFirst:
    """Answers a request that changes something before any of its body is read, where nobody is signed in.

    ``refuse`` makes the answer. Where the database is away the request goes on: what it comes to says so.
    """

    def __init__(self, app: ASGIApp, refuse: Callable[[Request, Exception], Awaitable[Response]]) -> None:
        self.app, self.refuse = app, refuse

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and scope["method"] not in _SAFE:
            request = Request(scope)
            if request.url.path in _OPEN:
                scope[_SENDER] = f"{_SIGNS_IN} {_address(scope)}"
            else:
                try:
                    with suppress(SQLAlchemyError):
                        scope[_SENDER] = await run_in_threadpool(_sender, request)
                except NotSignedIn as error:
                    answer = await self.refuse(request, error)
                    await answer(scope, receive, send)
                    return
        await self.app(scope, receive, send)


_SIGNS_IN = "signs in from"


def _sender(request: Request) -> str:
    with Context(request.app.state.engine, VISITOR) as session, session.begin():
        return f"person {actor_of_request(request, session).person}"


def _address(scope: Scope) -> str:
    return str((scope.get("client") or ("",))[0])


async def _say(send: Send, refused: _Refused) -> None:
    head = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
    if refused.status == 503:
        head.append((b"retry-after", b"30"))
    await send({"type": "http.response.start", "status": refused.status, "headers": head})
    await send({"type": "http.response.body", "body": refused.sentence.encode()})
