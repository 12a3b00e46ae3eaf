"""For whoever watches the server: metrics for Prometheus, whether it can serve, and a line of log for each request.

Metrics are for this machine, and for who sends ANAXIS_METRICS_TOKEN as ``Authorization: Bearer ...``.
"""

from __future__ import annotations

import hmac
import logging
import os
import time
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

import psutil
from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, PlainTextResponse, Response
from prometheus_client import CONTENT_TYPE_LATEST, REGISTRY, CollectorRegistry, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily
from prometheus_client.registry import Collector
from sqlalchemy import func, select, text
from sqlalchemy.exc import SQLAlchemyError
from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from anaxis.app.roles import Role
from anaxis.monitoring.logs import about, request_id_from
from anaxis.monitoring.metrics import REQUEST_SECONDS
from anaxis.queue.jobs import OPEN as OPEN_JOBS
from anaxis.queue.jobs import has_worker
from anaxis.store.content_places import PlaceAway
from anaxis.store.contents import require_destination
from anaxis.store.database import fits
from anaxis.store.models import Job, Worker
from anaxis.store.session import every_show
from anaxis.web.access import OPEN, needs
from anaxis.web.security import LOOPBACK

router = APIRouter(dependencies=[OPEN])
managing = APIRouter(dependencies=[needs(Role.ADMINISTRATOR, Role.ADMINISTRATOR)])
_log = logging.getLogger("anaxis.requests")
_ID = "x-request-id"


class Measured:
    """Times every request by its route, gives it an id that its logs and jobs carry, and writes a line about it."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        began, status = time.monotonic(), 0
        identity = request_id_from(Headers(scope=scope).get(_ID, ""))

        async def answered(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                MutableHeaders(scope=message)[_ID] = identity
            await send(message)

        with about(request=identity):
            try:
                await self.app(scope, receive, answered)
            finally:
                seconds = time.monotonic() - began
                route = _route_of(scope)
                REQUEST_SECONDS.labels(scope["method"], route, str(status)).observe(seconds)
                # The path, and not what stands behind the question mark: that may hold what somebody looked for.
                said = {
                    "method": scope["method"],
                    "path": scope["path"][:300],
                    "route": route,
                    "status": status,
                    "ms": round(seconds * 1000, 1),
                }
                _log.info("%s %s %s", scope["method"], route, status, extra=said)


def _route_of(scope: Scope) -> str:
    """The address as its route states it, so that there are as many as there are routes."""
    route = scope.get("route")
    path = getattr(route, "path", "")
    if path:
        return f"{scope.get('root_path', '')}{path}"
    return "/static" if scope["path"].startswith("/static/") else "none"


class _Store(Collector):
    """What the database and the processes of this server say at the moment they are asked."""

    def __init__(self, app: Any) -> None:
        self._state = app.state

    def collect(self) -> Iterator[Any]:
        state = self._state
        up = GaugeMetricFamily("anaxis_database_up", "1 where the database answers.")
        with suppress(SQLAlchemyError):
            yield from self._of_store()
            up.add_metric([], 1)
        if not up.samples:
            up.add_metric([], 0)
        yield up
        pool = state.engine.pool
        connections = GaugeMetricFamily(
            "anaxis_database_connections", "Connections of this server's pool.", labels=["state"]
        )
        connections.add_metric(["used"], pool.checkedout())
        connections.add_metric(["free"], pool.checkedin())
        yield connections
        sockets = GaugeMetricFamily(
            "anaxis_sockets", "Open connections of packages, and of pages that watch.", labels=["kind"]
        )
        for kind, count in state.hub.open_by_kind().items():
            sockets.add_metric([kind], count)
        yield sockets
        yield from _processes()

    def _of_store(self) -> Iterator[Any]:
        with every_show(self._state.engine) as session:
            waited_s = func.extract("epoch", func.now() - func.min(Job.created_at))
            oldest = select(func.coalesce(waited_s, 0)).where(Job.state == "waiting")
            age = session.execute(oldest).scalar_one()
            counted = session.execute(select(Job.kind, Job.state, func.count()).group_by(Job.kind, Job.state)).all()
            workers = (
                session.execute(select(func.count()).select_from(Worker)).scalar_one() if has_worker(session) else 0
            )
            delays = session.execute(_DELAYS).one()
        yield GaugeMetricFamily(
            "anaxis_queue_oldest_seconds", "How long the oldest waiting job has waited.", value=float(age)
        )
        yield GaugeMetricFamily("anaxis_workers", "Workers that reported recently.", value=workers)
        still = GaugeMetricFamily("anaxis_jobs_open", "Jobs that wait or are being done.", labels=["kind", "state"])
        ended = CounterMetricFamily("anaxis_jobs", "Jobs that have ended.", labels=["kind", "result"])
        for kind, state, count in counted:
            (still if state in OPEN_JOBS else ended).add_metric([kind, state], count)
        yield still
        yield ended
        delay = GaugeMetricFamily(
            "anaxis_exchange_delay_seconds", "From a change kept here until the other side held it, over the last five minutes.", labels=["of"]
        )  # fmt: skip
        for of, value in zip(("median", "worst"), delays, strict=True):
            if value is not None:
                delay.add_metric([of], float(value))
        yield delay


_DELAYS = text(
    """SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM acknowledged_at - created_at)),
    max(extract(epoch FROM acknowledged_at - created_at)) FROM exchange_changes
    WHERE direction = 'out' AND acknowledged_at > now() - interval '5 minutes'"""
)


def _processes() -> Iterator[Any]:
    """The memory of this process, and of those that read files and calculate for it."""
    me = psutil.Process()
    memory = GaugeMetricFamily("anaxis_memory_bytes", "Resident memory.", labels=["of"])
    memory.add_metric(["pages"], me.memory_info().rss)
    apart = 0
    for child in me.children(recursive=True):
        with suppress(psutil.Error):  # it ended meanwhile
            apart += child.memory_info().rss
    memory.add_metric(["readers"], apart)
    yield memory


@managing.get("/openapi.json")
def described(request: Request) -> Response:
    """Every address of the pages with its fields: what an attack by way of trial reads (scripts/attack.py)."""
    return JSONResponse(request.app.openapi())


@router.get("/metrics")
def metrics(request: Request) -> Response:
    if not _may_watch(request):
        return PlainTextResponse("Metrics need this machine, or the ANAXIS_METRICS_TOKEN.", 403)
    registry = CollectorRegistry()
    registry.register(_Store(request.app))
    return Response(generate_latest(REGISTRY) + generate_latest(registry), media_type=CONTENT_TYPE_LATEST)


def _may_watch(request: Request) -> bool:
    token = os.environ.get("ANAXIS_METRICS_TOKEN", "")
    kind, _, given = request.headers.get("authorization", "").partition(" ")
    if token and kind.lower() == "bearer" and hmac.compare_digest(given.strip().encode(), token.encode()):
        return True
    return request.client is not None and request.client.host in LOOPBACK


@router.get("/ready")
def ready(request: Request) -> Response:
    """That requests can be served: the database answers, this version can work with its tables, and stored bytes can be reached."""
    try:
        current = fits(request.app.state.engine)
        if current:
            require_destination(request.app.state.engine)
    except PlaceAway as away:
        return PlainTextResponse(f"not ready: {away.sentence}", 503)
    except SQLAlchemyError as error:
        return PlainTextResponse(f"not ready: the database does not answer ({type(error).__name__})", 503)
    if not current:
        return PlainTextResponse("not ready: the tables belong to another version of Anaxis", 503)
    return PlainTextResponse("ready")
