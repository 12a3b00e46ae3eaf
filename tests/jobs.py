"""What tests of long work share."""

from __future__ import annotations

import time
from collections.abc import Callable

from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.store.models import Job


def job(engine: Engine, number: int) -> Job:
    with Context(engine, LOCAL) as store:
        return store.get_one(Job, number)


def ended(engine: Engine, number: int, seconds: float = 60) -> Job:
    limit = time.monotonic() + seconds
    while (found := job(engine, number)).state in ("waiting", "running", "stopping"):
        assert time.monotonic() < limit, found.state
        time.sleep(0.1)
    return found


def wait_for(met: Callable[[], bool], seconds: float = 90) -> None:
    limit = time.monotonic() + seconds
    while not met():
        assert time.monotonic() < limit
        time.sleep(0.1)
