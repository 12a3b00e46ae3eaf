"""The socket that packages and trackers speak the exchange by (docs/exchange.md).

One task takes what comes, in order: each change is kept before it is acknowledged. Another sends what waits for the
client, as soon as the database says that something does, and from the last change that the client holds on.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
from typing import Any

from anyio import to_thread
from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from sqlalchemy.exc import DBAPIError

from anaxis.app.acting import NotAllowed
from anaxis.app.context import Context
from anaxis.app.exchange.changes import (
    MissingChange,
    acknowledged_until,
    refuse_change,
    take_acknowledged,
    take_change,
    take_samples,
    waiting,
)
from anaxis.app.exchange.clients import choose, enter, heard_of, leave, take_scene, wanted
from anaxis.app.exchange.links import followers
from anaxis.app.exchange.messages import (
    Acknowledge,
    Change,
    Playhead,
    ProblemMessage,
    PullMessage,
    Record,
    SamplesMessage,
    SceneMessage,
    Selection,
    Unreadable,
    Welcome,
    change_message,
    read_hello,
    read_message,
    require_size,
)
from anaxis.app.exchange.passing import Replaced, notify, require_current
from anaxis.app.exchange.recordings import recording_wanted
from anaxis.app.people.people import actor_for, person_named
from anaxis.app.people.sign_in import NotSignedIn
from anaxis.app.people.tokens import actor_by_token
from anaxis.app.roles import LOCAL, VISITOR, Actor, Role
from anaxis.core.errors import BadInput
from anaxis.monitoring.metrics import CHANGE_SECONDS
from anaxis.store.exchange import Client
from anaxis.store.rows import found
from anaxis.web.live.hub import AGAIN, POLICY, Hub, TooManyOpen, first_to_end
from anaxis.web.live.standing import RIGHTS, Standing
from anaxis.web.signed import signed_in_by_itself

router = APIRouter()
ADDRESS = "/exchange/v1"
_log = logging.getLogger("anaxis.live")
_HELLO_WITHIN_S = 10.0
_SAYS_EVERY_S = 15.0
# After these no message can be taken; after any other BadInput the next one can.
_ENDS_IT = (MissingChange, Replaced, NotAllowed, NotSignedIn)
# Of one person at once.
_MOST_CONNECTED = 32
# A message of more bytes is read in a thread.
_READ_AT_ONCE = 4096


@router.websocket(ADDRESS)
async def exchange(socket: WebSocket) -> None:
    hub: Hub = socket.app.state.hub
    try:
        await socket.accept()
        connected = await _enter(socket, hub)
    except BadInput as error:
        await _end(socket, error)
        return
    except (TimeoutError, WebSocketDisconnect, RuntimeError, KeyError):
        await _close(socket, POLICY)
        return
    except DBAPIError:
        await _close(socket, AGAIN)
        return
    try:
        with hub.one_of(_MOST_CONNECTED, "connected", connected.person):
            await connected.run()
    except TooManyOpen as error:
        await connected.left(error)


async def _enter(socket: WebSocket, hub: Hub) -> Connected:
    async with asyncio.timeout(_HELLO_WITHIN_S):
        message = await socket.receive()
    if message["type"] != "websocket.receive":
        raise WebSocketDisconnect(1006)
    hello = read_hello(message.get("text") or message.get("bytes") or "")
    itself = signed_in_by_itself(socket) and "origin" not in socket.headers
    visitor = socket.app.state.visitor if itself else ""
    actor = await hub.work(_actor, hello.token, visitor, actor=VISITOR)
    client = await hub.work(enter, hello, actor=actor)
    standing = Standing(lambda s: _actor(s, hello.token, visitor), Role.ARTIST, client.show_id, "connect a package")
    until = min(hello.have, await hub.work(acknowledged_until, client.id, actor=actor))
    return Connected(socket, hub, standing, actor.person, client, until)


def _actor(session: Context, token: str, visitor: str) -> Actor:
    """Who connects: by a token, which no page of another site has; in a demonstration whoever is on this machine."""
    if token:
        actor = actor_by_token(session, token)
    else:
        person = person_named(session, visitor) if visitor else None
        actor = actor_for(person) if person is not None else None
    if actor is None:
        raise NotSignedIn(
            "A package needs a valid token: create one on your account page and set it in the package (ANAXIS_TOKEN)."
        )
    return actor


async def _end(socket: WebSocket, error: BadInput) -> None:
    with contextlib.suppress(RuntimeError, WebSocketDisconnect):
        await socket.send_text(ProblemMessage(code=error.code, sentence=error.sentence).model_dump_json())
    await _close(socket, POLICY)


async def _close(socket: WebSocket, code: int) -> None:
    with contextlib.suppress(RuntimeError, WebSocketDisconnect):
        await socket.close(code)


class Connected:
    """One connection of a client, from its welcome to its end."""

    def __init__(
        self, socket: WebSocket, hub: Hub, standing: Standing, person: int | None, client: Client, sent: int
    ) -> None:
        self.socket, self.hub, self.standing, self.person = socket, hub, standing, person
        self.client, self.connection, self.kind, self.last_received = (
            client.id,
            str(client.connection),
            client.kind,
            client.last_received,
        )
        self.sent, self.recording = sent, 0
        self._one_at_a_time = asyncio.Lock()

    async def send(self, message: Any) -> None:
        data = message if isinstance(message, str | bytes) else message.model_dump_json(exclude_none=True)
        async with self._one_at_a_time:
            await (self.socket.send_bytes(data) if isinstance(data, bytes) else self.socket.send_text(data))

    async def work(self, function: Any, *args: Any) -> Any:
        """Raises NotSignedIn or NotAllowed once whoever connected may not any more."""
        return await self.hub.work(function, *args, actor=self.standing)

    async def run(self) -> None:
        try:
            await self.send(Welcome(heard=self.last_received, server="Anaxis"))
        except (RuntimeError, WebSocketDisconnect) as error:
            await self.left(error)
        else:
            await self.left(await first_to_end(self._receive(), self._send(), self._say()))

    async def left(self, error: BaseException | None) -> None:
        """The connection ends by an error, or by itself."""
        if isinstance(error, BadInput):
            await _end(self.socket, error)
        elif isinstance(error, DBAPIError):
            await _close(self.socket, AGAIN)  # it comes again, and sends again what was not acknowledged
        elif error is not None and not isinstance(error, WebSocketDisconnect | RuntimeError):
            _log.error("a connection of the exchange failed", exc_info=error)
            await _close(self.socket, AGAIN)
        with contextlib.suppress(DBAPIError):
            await self.hub.work(leave, self.client, self.connection, actor=LOCAL)

    async def _receive(self) -> None:
        while True:
            data = await self.socket.receive()
            if data["type"] != "websocket.receive":
                return
            await self._take(data["bytes"] if data.get("bytes") is not None else data["text"])

    async def _take(self, given: str | bytes) -> None:
        require_size(given)
        try:
            if len(given) > _READ_AT_ONCE:
                message, cells = await to_thread.run_sync(read_message, given)
            else:
                message, cells = read_message(given)
        except Unreadable as error:
            await self._not_taken(error)
            return
        if isinstance(message, Change):
            try:
                with CHANGE_SECONDS.time():
                    await self.work(take_change, self.client, self.connection, message, cells)
            except _ENDS_IT:
                raise
            except BadInput as error:
                await self.work(refuse_change, self.client, self.connection, message, error.sentence)
                await self.send(ProblemMessage(code=error.code, sentence=error.sentence, about=message.number))
            await self.send(Acknowledge(number=message.number))
        elif isinstance(message, SamplesMessage):
            try:
                await self.work(take_samples, self.client, self.connection, message)
            except _ENDS_IT:
                raise
            except BadInput as error:
                await self._refused(message.number, error)
            await self.send(Acknowledge(number=message.number))
        elif isinstance(message, Acknowledge):
            await self.work(take_acknowledged, self.client, self.connection, message.number, cells)
        elif isinstance(message, SceneMessage):
            try:
                await self._ask_for(await self.work(take_scene, self.client, self.connection, message))
            except _ENDS_IT:
                raise
            except BadInput as error:
                await self.send(ProblemMessage(code=error.code, sentence=error.sentence))
        elif isinstance(message, Selection):
            await self._ask_for(await self.work(choose, self.client, self.connection, message.camera))
        elif isinstance(message, Playhead):
            await self.work(_tell_playhead, self.client, self.connection, message.frame)
        elif isinstance(message, ProblemMessage):
            await self.work(heard_of, self.client, self.connection, message.sentence)

    async def _not_taken(self, error: Unreadable) -> None:
        """A message that cannot be read: a change among them counts as heard, so that those behind it can be."""
        if error.number is not None:
            await self._refused(error.number, error)
            await self.send(Acknowledge(number=error.number))
            return
        await self.send(ProblemMessage(code=error.code, sentence=error.sentence))

    async def _refused(self, number: int, error: BadInput) -> None:
        await self.work(refuse_change, self.client, self.connection, Change(number=number, camera="?"), error.sentence)
        await self.send(ProblemMessage(code=error.code, sentence=error.sentence, about=number))

    async def _ask_for(self, keys: list[str]) -> None:
        for key in keys:
            await self.send(PullMessage(camera=key))

    async def _send(self) -> None:
        with self.hub.waiting_for(f"p{self.client}", f"f{self.client}", RIGHTS) as waiter:
            while True:  # what is looked up is refused once whoever connected may not any more
                for number, message in await self.work(_waiting, self.client, self.sent):
                    await self.send(message)
                    self.sent = number
                if self.kind == "tracker":
                    await self._ask_to_record()
                for event in await waiter.next():
                    if event.startswith("f"):
                        await self.send(Playhead(frame=float(event.partition(":")[2])))
                    elif event.startswith("p") and event.endswith(":pull"):
                        await self._ask_for(await self.work(_wanted, self.client))

    async def _ask_to_record(self) -> None:
        for number, on in await self.work(recording_wanted, self.client, self.recording):
            await self.send(Record(recording=number, on=on))
            self.recording = number if on else 0

    async def _say(self) -> None:
        """That the connection is there."""
        while True:
            await asyncio.sleep(_SAYS_EVERY_S)
            await self.work(heard_of, self.client, self.connection)


def _waiting(session: Context, client_id: int, behind: int) -> list[tuple[int, str | bytes]]:
    """The changes that a client has not been sent on this connection, by number, as they go over the wire."""
    out = []
    for w in waiting(session, client_id, behind):
        said: dict[str, Any] = {"number": w.number, "camera": w.camera, "base": w.base, "replaces": w.replaces}
        out.append((w.number, change_message(said | ({"entry": w.entry} if w.entry else {}), w.cells)))
    return out


def _wanted(session: Context, client_id: int) -> list[str]:
    return wanted(session, found(session, Client, client_id, "package"))


def _tell_playhead(session: Context, client_id: int, connection: str, frame: float) -> None:
    """Told to whoever watches and to packages that follow, and kept nowhere."""
    require_current(found(session, Client, client_id, "package"), connection)
    notify(
        session,
        f"h{client_id}:{frame:.9g}",
        *(f"f{other}:{at:.9g}" for other, at in followers(session, client_id, frame)),
    )
