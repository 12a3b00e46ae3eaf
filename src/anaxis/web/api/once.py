"""A request with an Idempotency-Key is done once: the same one again gets the answer that was given.

The key is the sender's own, of 1 to 200 characters, and holds for a day.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.routing import APIRoute
from sqlalchemy import Engine, delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.store.people import AnswerGiven

_MOST = 200
_HOLDS = text("interval '1 day'")
_REPLAYED = "Idempotency-Replayed"


class Once(APIRoute):
    """A route whose POSTs are done once for each key of a sender."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        plain = super().get_route_handler()

        async def handled(request: Request) -> Response:
            key = request.headers.get("idempotency-key")
            if key is None or request.method != "POST":
                return await plain(request)
            if not 1 <= len(key) <= _MOST:
                raise BadInput(f"An Idempotency-Key has 1 to {_MOST} characters.", "idempotency")
            engine, who = request.app.state.engine, _digest(request.headers.get("authorization", "").encode())
            asked = await _asked(request)
            held = await run_in_threadpool(_begun, engine, who, key, asked)
            if held is not None:
                return held
            try:
                answer = await plain(request)
            except BaseException:
                await run_in_threadpool(_forget, engine, who, key)
                raise
            await run_in_threadpool(_keep, engine, who, key, answer)
            return answer

        return handled


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


async def _asked(request: Request) -> str:
    """What was asked for, as one word; of a file that is sent only that one is."""
    body = b"" if "multipart" in request.headers.get("content-type", "") else await request.body()
    return _digest(f"{request.method} {request.url.path}?{request.url.query} ".encode() + body)


def _begun(engine: Engine, who: str, key: str, asked: str) -> Response | None:
    """The answer to the same request before; None where this is the first, which is noted."""
    with Session(engine) as session, session.begin():
        session.execute(delete(AnswerGiven).where(AnswerGiven.created_at < func.now() - _HOLDS))
        first = (
            insert(AnswerGiven)
            .values(who=who, key=key, asked=asked)
            .on_conflict_do_nothing()
            .returning(AnswerGiven.key)
        )
        if session.execute(first).first() is not None:
            return None
        held = session.execute(select(AnswerGiven).where(AnswerGiven.who == who, AnswerGiven.key == key)).scalar_one()
        if held.asked != asked:
            raise BadInput("That Idempotency-Key was used for another request: take a new one for each.", "idempotency")
        if held.status is None:
            raise BadInput(
                "The request of that Idempotency-Key is being done, or was cut off: look at what is there, then ask with a new key.", "conflict"
            )  # fmt: skip
        return Response(held.body, held.status, {_REPLAYED: "true"}, media_type="application/json")


def _keep(engine: Engine, who: str, key: str, answer: Response) -> None:
    body = bytes(getattr(answer, "body", b""))
    with Session(engine) as session, session.begin():
        of = (AnswerGiven.who == who, AnswerGiven.key == key)
        session.execute(update(AnswerGiven).where(*of).values(status=answer.status_code, body=body))


def _forget(engine: Engine, who: str, key: str) -> None:
    """A request that failed changed nothing: it may be sent again."""
    with Session(engine) as session, session.begin():
        session.execute(delete(AnswerGiven).where(AnswerGiven.who == who, AnswerGiven.key == key))
