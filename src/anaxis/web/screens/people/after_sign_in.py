"""Where a browser is sent about signing in, and the cookie it is given."""

from __future__ import annotations

from urllib.parse import urlsplit

from fastapi import Request
from fastapi.responses import RedirectResponse


def within(address: str) -> str:
    """An address on this server, whatever was asked for."""
    split = urlsplit(address)
    inside = address.startswith("/") and not address.startswith(("//", "/\\")) and not split.scheme and not split.netloc
    return address if inside and address.isprintable() else "/"


def here(request: Request, path: str) -> str:
    """The whole address of a page of this server."""
    return f"{request.url.scheme}://{request.url.netloc}{path}"


def with_cookie(request: Request, answer: RedirectResponse, secret: str) -> RedirectResponse:
    request.app.state.signer.give(request, answer, secret)
    return answer
