"""Static files at addresses that hold a digest of all of them, so that a browser may keep them for a year."""

from __future__ import annotations

import gzip
import hashlib
from functools import lru_cache
from pathlib import Path

from starlette.exceptions import HTTPException
from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Receive, Scope, Send

_FOLDER = Path(__file__).parent / "static"
_COMPRESSED = {".css": "text/css", ".js": "text/javascript", ".svg": "image/svg+xml"}
_FOR_A_YEAR = "public, max-age=31536000, immutable"


def _digest() -> str:
    """The first 12 digits of the SHA-256 of all static files and their names."""
    whole = hashlib.sha256()
    for path in sorted(p for p in _FOLDER.rglob("*") if p.is_file()):
        whole.update(str(path.relative_to(_FOLDER)).encode() + b"\0" + path.read_bytes())
    return whole.hexdigest()[:12]


DIGEST = _digest()
# What pages write before the name of a static file.
ADDRESS = f"/static/{DIGEST}"


class DigestedFiles(StaticFiles):
    """Serves ``/static/<digest>/name`` to be kept for a year, and ``/static/name`` to be asked for again each time."""

    def __init__(self) -> None:
        super().__init__(directory=_FOLDER)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        path = self.get_path(scope)
        known = path.startswith(f"{DIGEST}/")
        name = path.removeprefix(f"{DIGEST}/")
        answer = (
            _compressed_answer(name) if "gzip" in _encodings(scope) and scope["method"] in ("GET", "HEAD") else None
        )
        if answer is None:
            answer = await self._answer_of(name, scope)
        answer.headers["Cache-Control"] = _FOR_A_YEAR if known else "no-cache"
        await answer(scope, receive, send)

    async def _answer_of(self, name: str, scope: Scope) -> Response:
        try:
            return await self.get_response(name, scope)
        except HTTPException as error:
            return Response(str(error.detail), error.status_code)


def _encodings(scope: Scope) -> str:
    return next((v.decode("latin-1") for k, v in scope["headers"] if k == b"accept-encoding"), "")


def _compressed_answer(name: str) -> Response | None:
    """A text file compressed as far as gzip goes, once for all requests; None for other files and unknown names."""
    suffix = Path(name).suffix
    if suffix not in _COMPRESSED:
        return None
    data = _compressed(name)
    if data is None:
        return None
    headers = {"Content-Encoding": "gzip", "Vary": "Accept-Encoding"}
    return Response(data, media_type=_COMPRESSED[suffix], headers=headers)


@lru_cache(maxsize=64)
def _compressed(name: str) -> bytes | None:
    path = (_FOLDER / name).resolve()
    if not path.is_relative_to(_FOLDER) or not path.is_file():
        return None
    return gzip.compress(path.read_bytes(), 9, mtime=0)
