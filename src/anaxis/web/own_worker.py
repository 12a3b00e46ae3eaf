"""The worker that the pages' own process starts, where it has one."""

from __future__ import annotations

from fastapi import Request


def ensure_worker(request: Request, wanted: bool) -> None:
    """See that somebody does what was asked for, where this process has a worker of its own."""
    if wanted and request.app.state.worker is not None:
        request.app.state.worker.ensure()
