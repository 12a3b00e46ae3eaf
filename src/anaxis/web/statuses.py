"""Which status of HTTP says that something was not done: for the pages and the interface alike."""

from __future__ import annotations

from anaxis.core.errors import BadInput
from anaxis.sandbox.turns import Busy
from anaxis.store.rows import NotFound

_BY_CODE = {
    "not_signed_in": 401,
    "not_allowed": 403,
    "conflict": 409,
    "too_many_tries": 429,
    "too_many_open": 429,
    "service_away": 503,
    "disk_full": 507,
}


def status_of(error: BadInput) -> int:
    """422 for what can be typed another way."""
    return 404 if isinstance(error, NotFound) else 503 if isinstance(error, Busy) else _BY_CODE.get(error.code, 422)
