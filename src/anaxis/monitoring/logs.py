"""Logs: a line of JSON for each thing, with the request that it belongs to, also in the jobs that the request asked for."""

from __future__ import annotations

import logging
import os
import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any
from uuid import uuid4

from pythonjsonlogger.json import JsonFormatter

from anaxis.core.errors import BadInput

_about: ContextVar[dict[str, Any] | None] = ContextVar("about", default=None)
_FORMS = ("json", "text")
_REQUEST_ID = re.compile(r"[A-Za-z0-9._-]{8,64}")


def request_id() -> str:
    """The id of the request that is being answered, or whose job is being done; "" outside of one."""
    return str((_about.get() or {}).get("request", ""))


def request_id_from(given: str) -> str:
    """An id that came with a request, where it is one, else a new one."""
    return given if _REQUEST_ID.fullmatch(given) else uuid4().hex


@contextmanager
def about(**more: Any) -> Iterator[None]:
    """What every line that is logged meanwhile says beside its own: ``request``, ``job``."""
    token = _about.set({**(_about.get() or {}), **{k: v for k, v in more.items() if v}})
    try:
        yield
    finally:
        _about.reset(token)


class _About(logging.Filter):
    def filter(self, record: logging.LogRecord) -> bool:
        record.__dict__.update(_about.get() or {})
        return True


def begin_logs() -> None:
    """Write logs to standard error, as ANAXIS_LOGS says: ``json``, or ``text`` for people, which is usual on a terminal.

    Raises BadInput for another word.
    """
    form = os.environ.get("ANAXIS_LOGS") or ("text" if sys.stderr.isatty() else "json")
    if form not in _FORMS:
        raise BadInput(f"ANAXIS_LOGS is '{form[:40]}': it must be {' or '.join(_FORMS)}.")
    handler = logging.StreamHandler()
    handler.addFilter(_About())
    if form == "json":
        names = {"levelname": "level", "name": "logger"}
        handler.setFormatter(JsonFormatter("%(levelname)s %(name)s %(message)s", rename_fields=names, timestamp="at"))
    else:
        handler.setFormatter(logging.Formatter("%(name)s: %(message)s"))
    logging.basicConfig(level=logging.WARNING, handlers=[handler], force=True)
    logging.getLogger("anaxis").setLevel(logging.INFO)
    if form == "text":  # on a terminal a line for every request would hide the others
        logging.getLogger("anaxis.requests").setLevel(logging.WARNING)
