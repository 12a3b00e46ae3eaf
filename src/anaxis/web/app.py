"""The application: screens, static files, and how errors are said."""

from __future__ import annotations

import errno
import logging
import os
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import replace
from urllib.parse import quote

from fastapi import FastAPI, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.exceptions import RequestValidationError
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import PlainTextResponse, RedirectResponse
from psycopg.errors import DeadlockDetected, LockNotAvailable, QueryCanceled
from secure.middleware import SecureASGIMiddleware
from sqlalchemy import Engine
from sqlalchemy.exc import DataError, IntegrityError, InternalError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException

from anaxis.app.context import Context
from anaxis.app.people.sign_in import NotSignedIn, server_key
from anaxis.app.roles import VISITOR
from anaxis.core.errors import BadInput
from anaxis.core.version import __version__
from anaxis.formats import check_size
from anaxis.queue.jobs import WorkerProcess
from anaxis.sandbox.calculators import Calculators
from anaxis.sandbox.guard import ParserPool, limits_from_environment
from anaxis.sandbox.turns import client
from anaxis.store.contents import check_setting
from anaxis.store.database import connect, migrate
from anaxis.web import monitoring
from anaxis.web.access import OPEN
from anaxis.web.api.application import PREFIX, api_of, problem
from anaxis.web.bodies import Bodies, BodyLimits, SignedInFirst
from anaxis.web.drawings.blocks import KeptDrawings
from anaxis.web.forms import wrong_field
from anaxis.web.head_requests import HeadRequests
from anaxis.web.live import exchange, watch
from anaxis.web.live.hub import Hub
from anaxis.web.monitoring import Measured
from anaxis.web.pages import page, said_where_it_was_asked
from anaxis.web.screens.camera import routes as camera
from anaxis.web.screens.columns import routes as columns
from anaxis.web.screens.compare import routes as compare
from anaxis.web.screens.conflict.shown import conflict
from anaxis.web.screens.coverage import routes as coverage
from anaxis.web.screens.deliver import routes as deliver
from anaxis.web.screens.derived import routes as derived
from anaxis.web.screens.editorial import routes as editorial
from anaxis.web.screens.film import routes as film
from anaxis.web.screens.help import routes as help_pages
from anaxis.web.screens.help import tour
from anaxis.web.screens.history import routes as history
from anaxis.web.screens.intake import many_files
from anaxis.web.screens.intake import routes as intake
from anaxis.web.screens.jobs import routes as jobs
from anaxis.web.screens.join import routes as join
from anaxis.web.screens.landmarks import routes as landmarks
from anaxis.web.screens.lens import distortion
from anaxis.web.screens.lens import routes as lens
from anaxis.web.screens.live import recordings
from anaxis.web.screens.live import routes as live
from anaxis.web.screens.notices import routes as notices
from anaxis.web.screens.packages import routes as packages
from anaxis.web.screens.people import routes as screens_people
from anaxis.web.screens.people import second_factor, studio
from anaxis.web.screens.placement import routes as placement
from anaxis.web.screens.plan import routes as plan
from anaxis.web.screens.plates import routes as plates
from anaxis.web.screens.proof import routes as proof
from anaxis.web.screens.recipe import routes as recipe
from anaxis.web.screens.returns import routes as returned
from anaxis.web.screens.screenshots import routes as screenshots
from anaxis.web.screens.search import routes as search
from anaxis.web.screens.set import routes as set_objects
from anaxis.web.screens.shots import names
from anaxis.web.screens.shots import routes as shots
from anaxis.web.screens.sphere import routes as sphere
from anaxis.web.screens.stills import routes as stills
from anaxis.web.screens.time import routes as time
from anaxis.web.security import Answered, NotStored, SameSite, hosts_allowed, policy
from anaxis.web.signed import Signer, is_api
from anaxis.web.static_files import DigestedFiles
from anaxis.web.statuses import status_of

ROUTERS = (
    shots.router,
    names.router,
    history.router,
    help_pages.router,
    tour.router,
    search.router,
    notices.router,
    many_files.router,
    intake.router,
    columns.router,
    compare.router,
    recipe.router,
    landmarks.router,
    set_objects.router,
    film.router,
    lens.router,
    distortion.router,
    time.router,
    jobs.router,
    returned.router,
    derived.router,
    plan.router,
    sphere.router,
    coverage.router,
    join.router,
    editorial.router,
    deliver.router,
    camera.router,
    proof.router,
    packages.router,
    placement.router,
    plates.router,
    stills.router,
    screenshots.router,
    live.router,
    recordings.router,
    deliver.several,
    packages.schema_router,
    distortion.schemas,
    screens_people.entry,
    screens_people.router,
    screens_people.managing,
    second_factor.entry,
    second_factor.router,
    second_factor.managing,
    studio.entry,
    exchange.router,
    watch.router,
    monitoring.router,
    monitoring.managing,
)
_FAILED = "An error in Anaxis stopped this step. Nothing was saved. See the log of the server."
_log = logging.getLogger("anaxis")


def create_app(
    database_url: str | None = None,
    readers_ready: bool = True,
    own_worker: bool = False,
    bound_to: str = "",
    visitor: str = "",
) -> FastAPI:
    """The pages on a PostgreSQL, its readers loaded at once or when a file comes, and a worker of their own if told to.

    ``bound_to`` is the address they are served at, whose name they answer to beside this machine's own. ``visitor`` names a person
    as whom everybody on this machine is signed in without being asked: a demonstration's. Raises BadInput where the database
    cannot be reached.
    """
    engine = connect(database_url or os.environ.get("DATABASE_URL", ""))
    migrate(engine)
    check_setting(engine)
    limits = limits_from_environment()

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.parsers = ParserPool(limits, ready=readers_ready)
        app.state.calculators = Calculators(limits, keeps_bytes=64_000_000, ready=readers_ready)
        # What is written and printed is ours and not a stranger's: its libraries alone take more addresses than a file may.
        app.state.makers = Calculators(replace(limits, memory_mb=limits.memory_mb + 3000, wall_s=limits.wall_s + 30))
        app.state.worker = WorkerProcess(engine) if own_worker else None
        await serve_from(app, engine)
        yield
        await app.state.hub.end()
        if app.state.worker is not None:
            app.state.worker.close()
        app.state.parsers.close()
        app.state.calculators.close()
        app.state.makers.close()
        engine.dispose()

    app = FastAPI(
        title="Anaxis", version=__version__, lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None
    )
    app.state.engine = engine
    app.state.visitor = visitor
    app.state.limits = limits
    app.state.hub = None
    # The last one added stands outermost.
    app.add_middleware(HeadRequests)
    app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=5)
    app.middleware("http")(_not_too_long)
    app.middleware("http")(_whose)
    app.add_middleware(Bodies, limits=BodyLimits(limits.max_bytes + 1_000_000))
    app.add_middleware(SignedInFirst, refuse=_not_signed_in)
    app.add_middleware(SameSite, hosts=hosts_allowed(bound_to))
    app.add_middleware(NotStored)
    app.add_middleware(Answered, say=_broken)
    app.add_middleware(SecureASGIMiddleware, secure=policy())
    app.add_middleware(Measured)
    app.mount(PREFIX, api_of(app.state))
    app.mount("/static", DigestedFiles(), name="static")
    for router in ROUTERS:
        # Each states its needs itself, so that none has to be analysed once more with what this one adds.
        app.router.routes.extend(router.routes)
    app.add_api_route("/alive", _alive, response_class=PlainTextResponse, dependencies=[OPEN])
    app.add_exception_handler(NotSignedIn, _not_signed_in)
    app.add_exception_handler(BadInput, _bad_input)
    app.add_exception_handler(RequestValidationError, _bad_form)
    app.add_exception_handler(HTTPException, _http_error)
    for failed in (OperationalError, InternalError, PoolTimeout):
        app.add_exception_handler(failed, _no_database)
    app.add_exception_handler(DataError, _not_storable)
    app.add_exception_handler(IntegrityError, _at_once)
    app.add_exception_handler(UnicodeEncodeError, _not_storable)
    app.add_exception_handler(OSError, _no_room)
    return app


async def serve_from(app: FastAPI, engine: Engine) -> None:
    """Serve a database from the next request on; the one before is let go. The application must have been started."""

    def signer() -> Signer:
        with Context(engine, VISITOR) as store, store.begin():
            return Signer(server_key(store))

    if app.state.hub is not None:
        await app.state.hub.end()
    app.state.drawings = KeptDrawings()
    app.state.engine, app.state.signer, app.state.hub = engine, await run_in_threadpool(signer), Hub(engine)
    app.state.hub.calculators = app.state.calculators
    app.state.hub.begin()


async def _alive() -> str:
    """That the pages' process goes on; it asks nothing of the database."""
    return "alive"


async def _whose(request: Request, call: Callable[[Request], Awaitable[Response]]) -> Response:
    """Whom the work is for, so that one who sends much stands in nobody else's way."""
    client.set(request.client.host if request.client else "")
    return await call(request)


async def _not_too_long(request: Request, call: Callable[[Request], Awaitable[Response]]) -> Response:
    """A file over the limit is refused by its announced length, before it is received."""
    limits = request.app.state.limits
    length = request.headers.get("content-length", "0")
    try:
        # The form around a file takes a little room too; the file itself is measured again later.
        check_size("The file", max(1, int(length) - 100_000), limits.max_bytes)
    except BadInput as error:
        return _say(request, error.sentence, 413)
    return await call(request)


def _say(request: Request, sentence: str, status: int) -> Response:
    if is_api(request):  # what is refused before it comes to the interface
        return problem(status, "too_large" if status == 413 else "refused", sentence)
    # A part of a page asks for a part of a page.
    name = "said.html" if request.headers.get("hx-request") else "error.html"
    answer: Response = page(request, name, status, sentence=sentence)
    return answer


async def _bad_input(request: Request, error: Exception) -> Response:
    assert isinstance(error, BadInput)
    if error.code == "conflict":
        chosen = await run_in_threadpool(conflict, request, error.sentence)
        if chosen is not None:
            return chosen
    back = None if request.headers.get("hx-request") else said_where_it_was_asked(request, error.sentence)
    if back is not None:
        return back
    status = status_of(error)
    answer = _say(request, error.sentence, status)
    if status == 503:
        answer.headers["Retry-After"] = "30"
    return answer


async def _not_signed_in(request: Request, error: Exception) -> Response:
    """To where one signs in, and back from there to what was asked for."""
    assert isinstance(error, NotSignedIn)
    if is_api(request):
        return problem(401, error.code, error.sentence)
    asked = request.url.path + (f"?{request.url.query}" if request.url.query else "")
    to = f"/sign-in?next={quote(asked if request.method == 'GET' else '/')}"
    if request.headers.get("hx-request"):
        return Response(status_code=401, headers={"HX-Redirect": to})
    return RedirectResponse(to, 303)


async def _bad_form(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    field, sentence = wrong_field(error)
    if not request.headers.get("hx-request"):
        back = said_where_it_was_asked(request, sentence, field)
        if back is not None:
            return back
    return _say(request, sentence, 422)


async def _http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    known = {404: "This page does not exist: go to Shots.", 405: "This is not possible here."}
    return _say(request, known.get(error.status_code, str(error.detail)), error.status_code)


async def _not_storable(request: Request, error: Exception) -> Response:
    """A NUL in a name, or a number outside the database's range."""
    sentence = "The form has a character or number that cannot be stored: type it again."
    return said_where_it_was_asked(request, sentence) or _say(request, sentence, 422)


async def _no_database(request: Request, error: Exception) -> Response:
    waited = isinstance(getattr(error, "orig", None), LockNotAvailable | QueryCanceled | DeadlockDetected)
    if waited or isinstance(error, PoolTimeout):
        sentence = (
            "Others are changing the same item, or the server is busy. Nothing was changed: try again in a moment."
        )
        answer = said_where_it_was_asked(request, sentence) or _say(request, sentence, 503)
        answer.headers["Retry-After"] = "10"
        return answer
    _log.error("database: %s", error)
    if "disk" in str(error).lower() or "No space left" in str(error):
        return _say(
            request, "The disk of the database is full. Nothing was changed. Free some space, then try again.", 507
        )
    return _say(request, "The database does not answer; nothing was changed. Try again in a moment.", 503)


async def _at_once(request: Request, error: Exception) -> Response:
    sentence = "Somebody else created the same item at the same moment. Nothing was saved: check it, then try again."
    return said_where_it_was_asked(request, sentence) or _say(request, sentence, 409)


async def _no_room(request: Request, error: Exception) -> Response:
    assert isinstance(error, OSError)
    if error.errno not in (errno.ENOSPC, errno.EDQUOT):
        return await _broken(request, error)
    _log.error("no room: %s", error)
    return _say(request, "The disk is full; nothing was changed. Free some space, then try again.", 507)


async def _broken(request: Request, error: Exception) -> Response:
    _log.exception("failed: %s", request.url.path, exc_info=error)
    return _say(request, _FAILED, 500)
