"""Seconds of what is done apart, told to whoever counts them in this process; a single command counts nothing."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

# Told the kind of work, and its seconds. The metrics (anaxis.monitoring.metrics) listen once they are loaded.
listeners: list[Callable[[str, float], None]] = []


@contextmanager
def timed(kind: str) -> Iterator[None]:
    """Time what is done apart, also where it fails."""
    began = time.perf_counter()
    try:
        yield
    finally:
        for told in listeners:
            told(kind, time.perf_counter() - began)
