"""What tests of long work share."""

from __future__ import annotations

import time

from sqlalchemy import Engine
from sqlalchemy.orm import Session

from anaxis.store.models import Job


def job(engine: Engine, number: int) -> Job:
    with Session(engine) as store:
        return store.get_one(Job, number)


def ended(engine: Engine, number: int, seconds: float = 60) -> Job:
    limit = time.monotonic() + seconds
    while (found := job(engine, number)).state in ("waiting", "running", "stopping"):
        assert time.monotonic() < limit, found.state
        time.sleep(0.1)
    return found
