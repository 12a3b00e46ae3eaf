"""What a process that works on what came in may take: memory on top of what it stands in already, no core files."""

from __future__ import annotations

import resource

import scipy

_PAGE = resource.getpagesize()


def load_scipy() -> None:
    """Load what scipy loads when it is first used, so that no file pays for it with its time or memory."""
    for part in (scipy.spatial.transform.Rotation, scipy.interpolate.CubicSpline, scipy.optimize.least_squares):
        assert part is not None


def addressed_bytes() -> int:
    """The addresses this process has taken."""
    with open("/proc/self/statm", encoding="ascii") as source:  # noqa: PTH123  (no path of a file system)
        return int(source.read().split()[0]) * _PAGE


def most_held_bytes() -> int:
    """What this process had in memory when it had most (getrusage(2)); a fork may not look at itself in /proc."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def allow_more(memory_mb: int, taken_bytes: int) -> None:
    """Let this process take so much more than the ``taken_bytes`` of addresses it had when it was forked: what its libraries
    took is no file's doing."""
    limit = taken_bytes + (memory_mb << 20)
    resource.setrlimit(resource.RLIMIT_AS, (limit, limit))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
