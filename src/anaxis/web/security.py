"""What every request must show and every answer carries: the host asked for, the page it comes from, the headers."""

from __future__ import annotations

import os
from collections.abc import Awaitable, Callable, Iterable
from urllib.parse import urlsplit

from secure import Secure
from secure.headers import (
    ContentSecurityPolicy,
    CrossOriginOpenerPolicy,
    CrossOriginResourcePolicy,
    ReferrerPolicy,
    XContentTypeOptions,
    XFrameOptions,
)
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

LOOPBACK = ("127.0.0.1", "localhost", "::1")
_SAFE = ("GET", "HEAD", "OPTIONS")


def policy() -> Secure:
    """The headers of every answer. Styles may stand in a page (a bar's length is one); scripts may not."""
    content = (
        ContentSecurityPolicy()
        .default_src("'none'")
        .script_src("'self'")
        .style_src("'self'", "'unsafe-inline'")
        .img_src("'self'", "data:")
        .font_src("'self'", "data:")
        .media_src("'self'")
        .connect_src("'self'")
        .form_action("'self'")
        .base_uri("'none'")
        .frame_ancestors("'none'")
    )
    return Secure(
        csp=content,
        xcto=XContentTypeOptions().nosniff(),
        xfo=XFrameOptions().deny(),
        referrer=ReferrerPolicy().same_origin(),
        coop=CrossOriginOpenerPolicy().same_origin(),
        corp=CrossOriginResourcePolicy().same_origin(),
    )


def hosts_allowed(bound_to: str = "") -> frozenset[str]:
    """The names this server answers to: this machine's own, the address it listens on, and those of ANAXIS_HOSTS."""
    named = [h.strip().strip("[]").lower() for h in os.environ.get("ANAXIS_HOSTS", "").split(",")]
    listens = "" if bound_to in ("0.0.0.0", "::") else bound_to.lower()
    return frozenset(h for h in (*LOOPBACK, listens, *named) if h)


class SameSite:
    """Refuses a host it does not go by (a page of another name that leads here), and what another site's page sends.

    A request that changes something must say by Origin or Referer that it comes from a page of this host: one that
    says nothing is refused too.
    """

    def __init__(self, app: ASGIApp, hosts: Iterable[str]) -> None:
        self.app, self.hosts = app, frozenset(hosts)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "websocket" and not self._same_socket(Headers(scope=scope)):
            await send({"type": "websocket.close", "code": 1008})
            return
        refused = (
            self._refused(scope["method"], scope["path"], Headers(scope=scope)) if scope["type"] == "http" else None
        )
        await (self.app if refused is None else refused)(scope, receive, send)

    def _same_socket(self, headers: Headers) -> bool:
        """A socket is opened by a page of this host, or by a program, which says no Origin: browsers always do."""
        host, origin = headers.get("host", ""), headers.get("origin")
        if _name_of(host) not in self.hosts:
            return False
        return origin is None or urlsplit(origin).netloc.lower() == host.lower()

    def _refused(self, method: str, path: str, headers: Headers) -> PlainTextResponse | None:
        host = headers.get("host", "")
        name = _name_of(host)
        if name not in self.hosts:
            sentence = (
                f"This server does not accept the name '{name[:80]}': use one of its names, or add this name to ANAXIS_HOSTS."
                ""
            )
            return PlainTextResponse(sentence, 421)
        if method in _SAFE:
            return None
        if headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
            return PlainTextResponse("This request came from another site: nothing was changed.", 403)
        if path.startswith("/api/"):
            return None  # only a token counts there, which no page of another site has, and no cookie
        came_from = headers.get("origin") or headers.get("referer")
        if came_from is None:
            sentence = "This request does not say from which page it comes (Origin or Referer): nothing was changed."
            return PlainTextResponse(sentence, 403)
        if urlsplit(came_from).netloc.lower() != host.lower():
            return PlainTextResponse("This request came from another site: nothing was changed.", 403)
        return None


def _name_of(host: str) -> str:
    try:
        return (urlsplit(f"//{host}").hostname or "").lower()
    except ValueError:
        return ""


class NotStored:
    """Pages hold what only those in the room may see: no browser and no proxy keeps them."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async def marked(message: Message) -> None:
            if message["type"] == "http.response.start" and not scope["path"].startswith("/static/"):
                held = Headers(raw=message["headers"])
                if "cache-control" not in held:
                    message["headers"] = [*message["headers"], (b"cache-control", b"no-store")]
            await send(message)

        await self.app(scope, receive, marked if scope["type"] == "http" else send)


class Answered:
    """A failure of ours is answered and written to the log, and the connection stays good for the next request."""

    def __init__(self, app: ASGIApp, say: Callable[[Request, Exception], Awaitable[Response]]) -> None:
        self.app, self.say = app, say

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        begun = False

        async def noted(message: Message) -> None:
            nonlocal begun
            begun = begun or message["type"] == "http.response.start"
            await send(message)

        try:
            await self.app(scope, receive, noted)
        except Exception as error:
            if scope["type"] != "http" or begun:
                raise
            answer = await self.say(Request(scope, receive), error)
            await answer(scope, receive, send)
