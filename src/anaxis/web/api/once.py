"""A request with an Idempotency-Key is done once: the same one again gets the answer that was given.

The key is the sender's own, of 1 to 200 characters, and holds for a day. The answer is written in the transaction of the work: where
the work is kept, the answer is, and where a process ended in between, neither is, and the request is done when it is sent again.
"""

from __future__ import annotations

import functools
import hashlib
import json
from collections.abc import Callable, Coroutine
from contextvars import ContextVar
from typing import Any, NamedTuple

from fastapi import Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.encoders import jsonable_encoder
from fastapi.responses import JSONResponse
from fastapi.routing import APIRoute
from pydantic import BaseModel
from sqlalchemy import Engine, delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session
from starlette.datastructures import FormData, UploadFile

from anaxis.core.errors import BadInput
from anaxis.store.people import AnswerGiven

_MOST = 200
_HOLDS = text("interval '1 day'")
# The same request again within so long may be one whose first is still being done.
_BEING_DONE_S = 60
_REPLAYED = "Idempotency-Replayed"
_CHUNK = 1 << 20


class _Keyed(NamedTuple):
    """A request with a key: whose it is, and what it asks for, as one word."""

    request: Request
    who: str
    key: str
    asked: str


class _DoneMeanwhile(Exception):
    """Another request of the same key was done while this one was."""


_keyed: ContextVar[_Keyed | None] = ContextVar("keyed", default=None)


class Once(APIRoute):
    """A route whose POSTs are done once for each key of a sender."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **options: Any) -> None:
        super().__init__(path, _keeps_its_answer(endpoint, options.get("status_code") or 200), **options)

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        plain = super().get_route_handler()

        async def handled(request: Request) -> Response:
            key = request.headers.get("idempotency-key")
            if key is None or request.method != "POST":
                return await plain(request)
            if not 1 <= len(key) <= _MOST:
                raise BadInput(f"An Idempotency-Key has 1 to {_MOST} characters.", "idempotency")
            engine, who = request.app.state.engine, _digest(request.headers.get("authorization", "").encode())
            keyed = _Keyed(request, who, key, await _asked(request))
            held = await run_in_threadpool(_begun, engine, keyed)
            if held is not None:
                return held
            token = _keyed.set(keyed)
            try:
                return await plain(request)
            except _DoneMeanwhile:
                # What is answered here is no failure to whoever commits: the work of this one is dropped first.
                await run_in_threadpool(request.state.store.rollback)
                done = await run_in_threadpool(_begun, engine, keyed)
                assert done is not None
                return done
            except BaseException:
                await run_in_threadpool(_forget, engine, keyed)
                raise
            finally:
                _keyed.reset(token)

        return handled


def _keeps_its_answer(endpoint: Callable[..., Any], status: int) -> Callable[..., Any]:
    """An endpoint that writes the answer to a keyed request with what it does, before that is committed."""

    @functools.wraps(endpoint)
    def answered(*args: Any, **kwargs: Any) -> Any:
        answer, keyed = endpoint(*args, **kwargs), _keyed.get()
        if keyed is not None:
            said = next((v.status_code for v in kwargs.values() if isinstance(v, Response)), None)
            _keep(keyed, answer, said or status)
        return answer

    return answered


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


async def _asked(request: Request) -> str:
    """What was asked for, as one word: the address, and the body or every field and file of a form."""
    digest = hashlib.sha256(f"{request.method} {request.url.path}?{request.url.query} ".encode())
    if "multipart" in request.headers.get("content-type", ""):
        await run_in_threadpool(_add_form, digest, await request.form())
    else:
        digest.update(await request.body())
    return digest.hexdigest()


def _add_form(digest: Any, form: FormData) -> None:
    """The boundary between the parts is another one each time: the parts count."""
    for name, value in form.multi_items():
        if not isinstance(value, UploadFile):
            digest.update(json.dumps([name, value]).encode())
            continue
        digest.update(json.dumps([name, value.filename, value.size]).encode())
        while chunk := value.file.read(_CHUNK):
            digest.update(chunk)
        value.file.seek(0)


def _begun(engine: Engine, keyed: _Keyed) -> Response | None:
    """The answer to the same request before; None where this is the first, or the first was cut off."""
    of = (AnswerGiven.who == keyed.who, AnswerGiven.key == keyed.key)
    with Session(engine) as session, session.begin():
        session.execute(delete(AnswerGiven).where(AnswerGiven.created_at < func.now() - _HOLDS))
        first = (
            insert(AnswerGiven)
            .values(who=keyed.who, key=keyed.key, asked=keyed.asked)
            .on_conflict_do_nothing()
            .returning(AnswerGiven.key)
        )
        if session.execute(first).first() is not None:
            return None
        held = session.execute(select(AnswerGiven).where(*of).with_for_update()).scalar_one()
        if held.asked != keyed.asked:
            raise BadInput(
                "This Idempotency-Key was used for another request: use a new key for each request.", "idempotency"
            )
        if held.status is not None:
            return Response(held.body, held.status, {_REPLAYED: "true"}, media_type="application/json")
        left = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, _BEING_DONE_S)
        taken_up = (
            update(AnswerGiven)
            .where(*of, AnswerGiven.created_at < left)
            .values(created_at=func.now())
            .returning(AnswerGiven.key)
        )
        if session.execute(taken_up).first() is None:
            raise BadInput(
                f"A request with this Idempotency-Key is running: try again in {_BEING_DONE_S} seconds at most.", "conflict"
            )  # fmt: skip
        return None


def _keep(keyed: _Keyed, answer: Any, status: int) -> None:
    """The answer, in the transaction of the work. Raises where another request of the same key was done first."""
    if not isinstance(answer, Response):
        whole = isinstance(answer, BaseModel)
        answer = (
            Response(answer.model_dump_json(by_alias=True), status)
            if whole
            else JSONResponse(jsonable_encoder(answer), status)
        )
    of = (AnswerGiven.who == keyed.who, AnswerGiven.key == keyed.key, AnswerGiven.asked == keyed.asked)
    written = (
        update(AnswerGiven)
        .where(*of, AnswerGiven.status.is_(None))
        .values(status=answer.status_code, body=bytes(answer.body))
        .returning(AnswerGiven.key)
    )
    if keyed.request.state.store.execute(written).first() is None:
        raise _DoneMeanwhile


def _forget(engine: Engine, keyed: _Keyed) -> None:
    """A request that failed changed nothing: it may be sent again."""
    with Session(engine) as session, session.begin():
        of = (AnswerGiven.who == keyed.who, AnswerGiven.key == keyed.key, AnswerGiven.status.is_(None))
        session.execute(delete(AnswerGiven).where(*of))
