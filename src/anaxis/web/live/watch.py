"""The socket by which a Live page is told what its two sides hold from now on."""

from __future__ import annotations

import asyncio
import contextlib
import json
from typing import Any

import numpy as np
from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from sqlalchemy.exc import DBAPIError

from anaxis.app.context import Context
from anaxis.app.exchange.sides import held_with_sequence
from anaxis.app.exchange.together import changed_since
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats
from anaxis.store.exchange import RemoteCamera
from anaxis.store.models import Show
from anaxis.store.rows import found
from anaxis.web.live.hub import AGAIN, POLICY, Hub, close_reason, first_to_end
from anaxis.web.live.standing import RIGHTS, Standing
from anaxis.web.screens.live.shown import frames_drawn, pair_of
from anaxis.web.signed import actor_of_request

router = APIRouter()
# What a person sees needs to be no newer than this.
_TOLD_EVERY_S = 0.08
_MOST_FRAMES = 400
# Of one person at once.
_MOST_WATCHING = 16


@router.websocket("/live/watch")
async def watch(
    socket: WebSocket, show: int, a: int, b: int = 0, sequence_a: int = 0, sequence_b: int = 0, motion_m: float = 0.0
) -> None:
    """``a`` and ``b`` are the cameras looked at (0 for none on the right), as of the sequences that the page's drawing is of."""
    hub: Hub = socket.app.state.hub
    try:
        await socket.accept()
    except (RuntimeError, WebSocketDisconnect):  # it has gone already
        return
    standing = Standing(lambda session: actor_of_request(socket, session), Role.VIEWER, show, "see this")
    watching = _Watching(hub, standing, show, (a, b), [sequence_a, sequence_b], motion_m)
    try:
        person = await watching.work(_person)
        with hub.one_of(_MOST_WATCHING, "watching", person):
            error = await first_to_end(watching.tell(socket), _until_it_goes(socket))
    except (BadInput, DBAPIError) as refused:
        error = refused
    if error is not None and not isinstance(error, WebSocketDisconnect | RuntimeError | DBAPIError | BadInput):
        raise error
    with contextlib.suppress(RuntimeError, WebSocketDisconnect):
        if isinstance(error, BadInput):
            await socket.close(POLICY, close_reason(error.sentence))
        else:
            await socket.close(AGAIN)


async def _until_it_goes(socket: WebSocket) -> None:
    while (await socket.receive())["type"] != "websocket.disconnect":
        pass


def _person(session: Context) -> int | None:
    return session.actor.person


class _Watching:
    """``sequences`` are those that the page has been told of; the offset between the two is asked for again when the page's state
    changes, as a link does by being made or stopped."""

    def __init__(
        self, hub: Hub, standing: Standing, show: int, cameras: tuple[int, int], sequences: list[int], motion_m: float
    ) -> None:
        self.hub, self.standing, self.show, self.cameras = hub, standing, show, cameras
        self.sequences, self.motion_m, self.offset, self.by_time = sequences, motion_m, 0.0, False

    async def work(self, function: Any, *args: Any) -> Any:
        """Raises NotSignedIn or NotAllowed once whoever watches may not any more."""
        return await self.hub.work(function, *args, actor=self.standing, watches=True)

    async def tell(self, socket: WebSocket) -> None:
        clients = await self.work(_parties, self.cameras)
        self.offset, self.by_time = await self.work(_timing, self.show, self.cameras)
        keys = [f"c{c}" for c in self.cameras if c] + [f"h{p}" for p in clients.values()] + [f"s{self.show}", RIGHTS]
        with self.hub.waiting_for(*keys) as waiter:
            waiter.tell("")  # what came between the drawing and now
            while True:
                events = await waiter.next()
                if RIGHTS in events:
                    await self.work(_person)
                for event in events:
                    if event.startswith("h"):
                        number, _, frame = event[1:].partition(":")
                        side = next((i for i, c in enumerate(self.cameras) if clients.get(c) == int(number)), 0)
                        await socket.send_text(json.dumps({"t": "playhead", "side": side, "frame": float(frame)}))
                timing = self.offset, self.by_time
                if any(e == "" or e.startswith("s") for e in events):
                    timing = await self.work(_timing, self.show, self.cameras)
                if timing != (self.offset, self.by_time):
                    await socket.send_text('{"t": "reload"}')
                    return
                if any(e == "" or e.startswith("c") for e in events):
                    await self._tell_changes(socket)
                if any(e.startswith(("s", "c")) for e in events):
                    await socket.send_text('{"t": "state"}')
                await asyncio.sleep(_TOLD_EVERY_S)

    async def _tell_changes(self, socket: WebSocket) -> None:
        message = await self.work(
            _changes, self.cameras, list(self.sequences), self.offset, self.motion_m, self.by_time
        )
        if message is not None:
            self.sequences = message.get("sequences", self.sequences)
            await socket.send_text(json.dumps(message))


def _parties(session: Context, cameras: tuple[int, int]) -> dict[int, int]:
    return {c: found(session, RemoteCamera, c, "camera of a package").client_id for c in cameras if c}


def _timing(session: Context, show: int, cameras: tuple[int, int]) -> tuple[float, bool]:
    """The offset between two cameras' frames, and whether a link by time resamples one for the other."""
    pair = pair_of(session, found(session, Show, show, "show"), cameras[0], cameras[1] or None)
    return pair.offset, pair.link is not None and pair.link.scale is not None


def _changes(
    session: Context, cameras: tuple[int, int], sequences: list[int], offset: float, motion_m: float, by_time: bool
) -> dict[str, Any] | None:
    """What came to be held since; None for nothing, "reload" where it is too much to tell, or the frames are others. Through a link by
    time a change of one frame is one of many: "redraw"."""
    both = [found(session, RemoteCamera, c, "camera of a package") for c in cameras if c]
    frames = []
    for i, (remote, sequence) in enumerate(zip(both, sequences, strict=False)):
        changed = changed_since(session, remote, sequence)
        if changed is None:
            return {"t": "reload"}
        frames.append(changed - (offset if i else 0.0))
    if by_time:
        now = [held_with_sequence(session, r)[0] for r in both]
        return {"t": "redraw", "sequences": now} if now != sequences else None
    wanted: Floats = np.unique(np.round(np.concatenate(frames), 3))
    if not len(wanted):
        return None
    if len(wanted) > _MOST_FRAMES:
        return {"t": "reload"}
    return {
        "t": "frames",
        **frames_drawn(session, both[0], both[1] if len(both) > 1 else None, offset, wanted, motion_m),
    }
