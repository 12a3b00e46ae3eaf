"""A package that is driven: one connection at a time, what it said, and what it is asked to do."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Any, NamedTuple

import numpy as np
from websockets.asyncio.server import ServerConnection, serve
from websockets.exceptions import ConnectionClosed

from anaxis.app.exchange.cells import EVERY, FramePatch
from anaxis.app.exchange.messages import (
    Acknowledge,
    Change,
    Hello,
    PullMessage,
    SceneMessage,
    Unreadable,
    Welcome,
    change_message,
    read_hello,
    read_message,
)  # fmt: skip
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

# Who is away tries again ever less often, up to every few seconds.
_COMES_BACK_S = 6.0


class DoesNotHold(Exception):
    """A package does something else than the exchange asks; the sentence says what was seen."""


class Whole(NamedTuple):
    """All frames of a camera as a package sent them."""

    change: Change
    cells: FramePatch


class Driven:
    """``sent`` is the highest number of a change sent to the package, ``heard`` the highest of its own in order; ``scene`` the last it
    told. While ``holds_back``, none of its changes is acknowledged."""

    def __init__(self, patience_s: float) -> None:
        self.patience_s = patience_s
        self.sockets: asyncio.Queue[ServerConnection] = asyncio.Queue()
        self.hello: Hello | None = None
        self.scene: SceneMessage | None = None
        self.scenes = self.sent = self.heard = 0
        self.changes: list[Whole] = []
        self.answers: dict[int, list[FramePatch | None]] = {}
        self.faults: list[str] = []
        self.holds_back = False
        self._socket: ServerConnection | None = None
        self._reader: asyncio.Task[None] | None = None
        self._news = asyncio.Event()

    async def met(self, socket: ServerConnection) -> None:
        """A package that connected, until it goes."""
        await self.sockets.put(socket)
        await socket.wait_closed()

    @property
    def cameras(self) -> list[str]:
        return [] if self.scene is None else [c.id for c in self.scene.cameras]

    async def connected(self, within_s: float | None = None, heard: int | None = None) -> Hello:
        """The next connection, greeted. ``heard`` is what the welcome says was heard, the truth where None."""
        within_s = within_s or max(_COMES_BACK_S, self.patience_s)
        try:
            async with asyncio.timeout(within_s):
                socket = await self.sockets.get()
        except TimeoutError:
            raise DoesNotHold(f"Nothing connected within {within_s:g} s.") from None
        try:
            async with asyncio.timeout(self.patience_s):
                self.hello = read_hello(await socket.recv())
        except TimeoutError:
            raise DoesNotHold(
                f"It connected and said nothing for {self.patience_s:g} s: the first message is a hello."
            ) from None
        except ConnectionClosed:
            raise DoesNotHold("It connected and went without a hello.") from None
        except BadInput as error:
            raise DoesNotHold(error.sentence) from None
        self._socket, self.scenes = socket, 0
        await self.send(Welcome(heard=self.heard if heard is None else heard, server="conformance").model_dump_json())
        self._reader = asyncio.create_task(self._read(socket))
        return self.hello

    async def cut(self) -> None:
        """The network is gone: no goodbye."""
        if self._socket is not None:
            self._socket.transport.abort()
        if self._reader is not None:
            await self._reader

    async def again(self, heard: int | None = None) -> Hello:
        """Cut, and connected again."""
        await self.cut()
        return await self.connected(heard=heard)

    async def send(self, data: str | bytes) -> None:
        assert self._socket is not None
        with contextlib.suppress(ConnectionClosed):
            await self._socket.send(data)

    @property
    def is_there(self) -> bool:
        return self._reader is not None and not self._reader.done()

    async def until(self, seen: Any, what: str) -> None:
        """Wait until ``seen()`` holds. Raises DoesNotHold that says ``what`` was waited for."""
        try:
            async with asyncio.timeout(self.patience_s):
                while not seen():
                    self._news.clear()
                    await self._news.wait()
        except TimeoutError:
            raise DoesNotHold(f"{what} within {self.patience_s:g} s.") from None

    async def told_scene(self) -> SceneMessage:
        await self.until(lambda: self.scenes > 0, "It did not send its scene")
        assert self.scene is not None
        return self.scene

    async def pulled(self, camera: str) -> Whole:
        """All frames of a camera, asked for."""
        before = len(self.changes)
        await self.send(PullMessage(camera=camera).model_dump_json())

        def answers() -> list[Whole]:
            return [w for w in self.changes[before:] if w.change.answers_pull and w.change.camera == camera]

        await self.until(answers, f"It did not answer a pull of '{camera}'")
        return answers()[-1]

    async def change(
        self,
        camera: str,
        frames: Floats,
        rows: Floats,
        groups: tuple[str, ...] = EVERY,
        number: int | None = None,
        **more: Any,
    ) -> FramePatch | None:
        """Send a change and wait for its answer: what the package says it holds instead, None where it holds what was sent."""
        number = number or self.sent + 1
        self.sent = max(self.sent, number)
        before = len(self.answers.get(number, []))
        said = {"number": number, "camera": camera, "base": self.heard, **more}
        await self.send(change_message(said, FramePatch(frames, groups, rows).only(groups)))
        await self.until(lambda: len(self.answers.get(number, [])) > before, f"It did not acknowledge change {number}")
        return self.answers[number][-1]

    async def _read(self, socket: ServerConnection) -> None:
        try:
            async for data in socket:
                await self._take(data)
                self._news.set()
        except ConnectionClosed:
            pass
        self._news.set()

    async def _take(self, data: str | bytes) -> None:
        try:
            message, cells = read_message(data)
        except Unreadable as error:
            self.faults.append(error.sentence)
            return
        if isinstance(message, SceneMessage):
            self.scene, self.scenes = message, self.scenes + 1
        elif isinstance(message, Acknowledge):
            self.answers.setdefault(message.number, []).append(cells)
        elif isinstance(message, Change):
            if message.number > self.heard + 1:
                self.faults.append(
                    f"Its change {message.number} came where {self.heard + 1} is next: numbers have no gap."
                )
                return
            if message.number == self.heard + 1 and not self.holds_back:
                self.heard = message.number
            self.changes.append(Whole(message, cells or FramePatch(np.zeros(0), (), np.zeros((0, 16)))))
            if not self.holds_back:
                await self.send(Acknowledge(number=message.number).model_dump_json(exclude_none=True))


@contextlib.asynccontextmanager
async def driven(port: int, patience_s: float) -> Any:
    """A server for packages to connect to. Raises BadInput where the port is taken."""
    package = Driven(patience_s)
    try:
        server = await serve(package.met, "127.0.0.1", port, max_size=None, compression=None)
    except OSError as error:
        raise BadInput(
            f"Port {port} on 127.0.0.1 cannot be listened on ({error.strerror}): choose another with --port."
        ) from error
    try:
        yield package
    finally:
        server.close()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(2):
                await server.wait_closed()
