"""Times the reading of files and the calculations in confined processes.

The server's metrics add a listener. Commands have none, and do not load the metrics library.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

# Each is called with the kind of work and its seconds.
listeners: list[Callable[[str, float], None]] = []


@contextmanager
def timed(kind: str) -> Iterator[None]:
    """Time a block, and pass its seconds to the listeners, also when it raises."""
    began = time.perf_counter()
    try:
        yield
    finally:
        seconds = time.perf_counter() - began
        for listener in listeners:
            listener(kind, seconds)
