"""A request's body is counted as it comes: one that does not say how long it is passes no limit."""

from __future__ import annotations

from contextlib import suppress

from starlette.types import ASGIApp, Message, Receive, Scope, Send

_SAID = (
    b"What was sent is larger than the limit for a file: send a smaller one, or raise the limit (ANAXIS_MAX_FILE_MB)."
)


class BodyLimit:
    """Ends a request whose body grows over ``most`` bytes, before more of it is taken."""

    def __init__(self, app: ASGIApp, most: int) -> None:
        self.app, self.most = app, most

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        taken, over, begun = 0, False, False

        async def counted() -> Message:
            nonlocal taken, over
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > self.most:
                over = True
                raise _TooLong
            return message

        async def answered(message: Message) -> None:
            nonlocal begun
            if over:
                return
            begun = True
            await send(message)

        with suppress(_TooLong):
            await self.app(scope, counted, answered)
        if over and not begun:
            head = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
            await send({"type": "http.response.start", "status": 413, "headers": head})
            await send({"type": "http.response.body", "body": _SAID})


class _TooLong(Exception):
    """More came than is taken."""
