"""HEAD of any address that answers GET: the same head, without the body."""

from __future__ import annotations

from starlette.types import ASGIApp, Message, Receive, Scope, Send


class HeadRequests:
    """Asks the application for the whole answer, and sends its head alone."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] != "HEAD":
            await self.app(scope, receive, send)
            return
        ended = False

        async def gone() -> Message:
            """An answer that never ends is over for whoever asked for its head."""
            return {"type": "http.disconnect"} if ended else await receive()

        async def head_alone(message: Message) -> None:
            nonlocal ended
            if ended:
                return
            if message["type"] == "http.response.start":
                await send(message)
                await send({"type": "http.response.body", "body": b""})
                ended = True

        await self.app({**scope, "method": "GET"}, gone, head_alone)
