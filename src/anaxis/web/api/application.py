"""The interface's own application: what it says of itself, and how it says what went wrong."""

from __future__ import annotations

import logging
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import DataError, IntegrityError, InternalError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException
from starlette.routing import Match, Route

from anaxis.app.documents import Problem
from anaxis.core.errors import BadInput
from anaxis.core.version import __version__
from anaxis.web.access import OPEN
from anaxis.web.api import cameras, deliveries, files, hooks, live, organise, plans, plates, screenshots, shows
from anaxis.web.api.description import describe
from anaxis.web.statuses import status_of

PREFIX = "/api/v1"
_log = logging.getLogger("anaxis")
_ABOUT = """Everything that the pages do, for programs. Send a token from your account page as `Authorization: Bearer …`.

Errors are a `Problem`: a stable code, a sentence and the field. Long work answers 202 with jobs; poll them or follow them as server-sent events. A POST with an `Idempotency-Key` is done once."""


def api_of(state: Any) -> FastAPI:
    """The interface, with what the pages' application holds: engine, readers, limits."""
    api = FastAPI(
        title="Anaxis", version=__version__, description=_ABOUT, docs_url=None, redoc_url=None, openapi_url=None
    )
    api.state = state
    describe(api)
    for part in (shows, organise, files, cameras, deliveries, plates, screenshots, plans, live, hooks):
        api.router.routes.extend(part.router.routes)
    api.add_api_route("/openapi.json", _described, include_in_schema=False, dependencies=[OPEN])
    api.add_exception_handler(BadInput, _bad_input)
    api.add_exception_handler(RequestValidationError, _bad_request)
    api.add_exception_handler(HTTPException, _http_error)
    for failed in (OperationalError, InternalError, PoolTimeout):
        api.add_exception_handler(failed, _no_database)
    for unfit in (DataError, UnicodeEncodeError):
        api.add_exception_handler(unfit, _not_storable)
    api.add_exception_handler(IntegrityError, _at_once)
    return api


def _described(request: Request) -> JSONResponse:
    """The description of every address, worked out once, by a thread."""
    return JSONResponse({**request.app.openapi(), "servers": [{"url": PREFIX}]})


def problem(status: int, code: str, sentence: str, field: str | None = None) -> JSONResponse:
    """An error."""
    headers = {"WWW-Authenticate": "Bearer"} if status == 401 else None
    return JSONResponse(Problem(code=code, sentence=sentence, field=field).model_dump(), status, headers)


async def _bad_input(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, BadInput)
    status = 409 if error.code == "nothing_due" else status_of(error)
    answer = problem(status, error.code, error.sentence)
    if status == 503:
        answer.headers["Retry-After"] = "30"
    return answer


async def _bad_request(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, RequestValidationError)
    first = error.errors()[0]
    field = ".".join(str(step) for step in first["loc"][1:]) or str(first["loc"][0])
    ours = first.get("ctx", {}).get("error")
    if isinstance(ours, BadInput):
        return problem(422, ours.code, ours.sentence, field)
    return problem(422, "bad_request", f"{field}: {first['msg']}.", field)


async def _http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    code = {404: "no_such_address", 405: "no_such_method"}.get(error.status_code, "bad_request")
    answer: Response = problem(error.status_code, code, str(error.detail))
    answer.headers.update(error.headers or {})
    if error.status_code == 405:
        # The router names the methods of the first route of this address alone.
        allowed = ", ".join(_methods_of(request))
        if request.method == "OPTIONS":
            answer = Response(status_code=204)
        answer.headers["Allow"] = allowed
    return answer


def _methods_of(request: Request) -> list[str]:
    """Every method that an address answers."""
    found = {"OPTIONS"}
    for route in request.app.routes:
        if isinstance(route, Route) and route.matches({**request.scope, "method": "NONE"})[0] is not Match.NONE:
            found |= route.methods or set()
    return sorted(found | ({"HEAD"} if "GET" in found else set()))


async def _no_database(request: Request, error: Exception) -> JSONResponse:
    _log.error("database: %s", error)
    answer = problem(
        503,
        "busy",
        "The database does not answer, or others are changing the same item. Nothing was changed: try again in a moment.",
    )
    answer.headers["Retry-After"] = "10"
    return answer


async def _not_storable(request: Request, error: Exception) -> JSONResponse:
    return problem(422, "not_storable", "The request has a character or number that cannot be stored.")


async def _at_once(request: Request, error: Exception) -> JSONResponse:
    return problem(
        409,
        "conflict",
        "Somebody else created the same item at the same moment. Nothing was saved: check it, then try again.",
    )
