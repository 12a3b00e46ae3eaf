"""No process that a test starts outlives it; the processes that all tests of a test process share are known by name."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import psutil

_shared: set[int] = set()
# Readers and calculators belong to pools that the tests share, and are started when they are first needed.
_OF_POOLS = "anaxis.sandbox"
_ENDS_WITHIN_S = 10


def children() -> set[int]:
    """The processes that this one has started and that are still there."""
    found: set[int] = set()
    for thread in Path("/proc/self/task").iterdir():
        with suppress(OSError):
            found.update(map(int, (thread / "children").read_text().split()))
    return found


@contextmanager
def shared() -> Iterator[None]:
    """What is started meanwhile stays until the last test."""
    before = children()
    yield
    _shared.update(children() - before)


@contextmanager
def none_left() -> Iterator[None]:
    """Fail where a process that was started meanwhile goes on; it is ended."""
    before = children()
    yield
    left = []
    for number in children() - before - _shared - {os.getpid()}:
        with suppress(psutil.Error):
            process = psutil.Process(number)
            if _OF_POOLS not in " ".join(process.cmdline()):
                left.append(process)
    alive = psutil.wait_procs(left, timeout=_ENDS_WITHIN_S)[1] if left else []
    said = []
    for process in alive:
        with suppress(psutil.Error):
            if _OF_POOLS in " ".join(process.cmdline()):  # it had not become what it is when it was first looked at
                continue
            said.append(" ".join(process.cmdline())[-200:])
            for below in [*process.children(recursive=True), process]:
                below.kill()
    assert not said, f"still running after the test: {said}"
