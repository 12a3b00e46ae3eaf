"""Server-sent events: for as long as whoever asked for them may see them, and some of one person at once."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from anaxis.app.context import Context
from anaxis.app.roles import VISITOR, Actor
from anaxis.core.errors import BadInput
from anaxis.web.signed import actor_of_request

_MOST_STREAMS = 16
_ASKED_EVERY_S = 5.0


def events(request: Request, told: AsyncIterator[str]) -> StreamingResponse:
    """What is told, as server-sent events, until it ends, the client goes or its rights change. Raises TooManyOpen."""
    hub = request.app.state.hub
    actor: Actor = request.state.actor
    hub.require_room(_MOST_STREAMS, "events", actor.person)

    async def counted() -> AsyncIterator[str]:
        asked = time.monotonic()
        with hub.one_of(_MOST_STREAMS, "events", actor.person):
            async for piece in told:
                if await request.is_disconnected():
                    return
                if time.monotonic() - asked > _ASKED_EVERY_S:
                    asked = time.monotonic()
                    if await run_in_threadpool(_actor_now, request) != actor:
                        return  # asked for again it is answered by the rights as they are
                yield piece

    return StreamingResponse(counted(), media_type="text/event-stream")


def _actor_now(request: Request) -> Actor | None:
    try:
        with Context(request.app.state.engine, VISITOR) as session, session.begin():
            return actor_of_request(request, session)
    except BadInput:
        return None
