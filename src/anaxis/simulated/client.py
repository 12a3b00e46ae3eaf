"""One side of the exchange: keeps a connection to the server, and comes back where it was lost."""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections.abc import Awaitable, Callable
from typing import Any

import numpy as np
import websockets
from websockets.asyncio.client import ClientConnection, connect

from anaxis.simulated import space
from anaxis.simulated.scene import SimulatedScene, rows_of, values_of
from anaxis.simulated.space import GROUPS, columns

PROTOCOL = 1
_MANY = 64
_MOST_WAIT_S = 2.0


def wire(message: dict[str, Any]) -> str | bytes:
    """A message as it is sent: JSON; a change of many frames, or what is held of many, binary."""
    if message["type"] == "change":
        cell, head = message, {k: v for k, v in message.items() if k not in ("frames", "values")}
    else:
        cell, head = message.get("held") or {}, {k: v for k, v in message.items() if k != "held"}
    if len(cell.get("frames", ())) < _MANY:
        return json.dumps(message, allow_nan=False)
    groups = [g for g in GROUPS if g in cell["values"]]
    text = json.dumps({**head, "groups": groups, "count": len(cell["frames"])}, allow_nan=False).encode()
    text += b" " * (-(len(text) + 4) % 8)
    rows = rows_of(len(cell["frames"]), cell["values"])
    body = np.column_stack([np.array(cell["frames"]), *(rows[:, columns(g)] for g in groups)])
    return len(text).to_bytes(4, "little") + text + body.astype("<f8").tobytes()


def unwired(data: str | bytes) -> dict[str, Any]:
    if isinstance(data, str):
        message: dict[str, Any] = json.loads(data)
        return message
    size = int.from_bytes(data[:4], "little")
    message = json.loads(data[4 : 4 + size])
    groups, count = message.pop("groups"), message.pop("count")
    body = np.frombuffer(data, "<f8", offset=(4 + size + 7) // 8 * 8).reshape(count, -1)
    rows, at = np.full((count, space.WIDTH), np.nan), 1
    for group in (g for g in GROUPS if g in groups):
        rows[:, columns(group)] = body[:, at : at + GROUPS[group]]
        at += GROUPS[group]
    return {**message, "frames": body[:, 0].tolist(), "values": values_of(rows, [g for g in GROUPS if g in groups])}


class Line:
    """The line to a server. ``greet`` gives what is said first, ``hear`` is told each message; ``state`` is for people."""

    def __init__(
        self,
        server: str,
        hello: Callable[[], dict[str, Any]],
        welcomed: Callable[[int], Awaitable[None]],
        hear: Callable[[dict[str, Any]], Awaitable[None]],
    ) -> None:
        base = server.rstrip("/").replace("http://", "ws://", 1).replace("https://", "wss://", 1)
        self.address, self._hello, self._welcomed, self._hear = f"{base}/exchange/v1", hello, welcomed, hear
        self.connection: ClientConnection | None = None
        self.state, self.said = "away", ""

    async def send(self, message: dict[str, Any]) -> None:
        """Sent where there is a connection; what must not be lost is sent again from the outbox when there is one again."""
        if self.connection is not None:
            with contextlib.suppress(websockets.ConnectionClosed):
                await self.connection.send(wire(message))

    async def run(self) -> None:
        wait_s = 0.1
        while True:
            began = time.monotonic()
            self.said = ""
            try:
                async with connect(
                    self.address, max_size=None, open_timeout=5, ping_interval=10, ping_timeout=20, compression=None
                ) as connection:
                    await connection.send(json.dumps(self._hello()))
                    async with asyncio.timeout(15):  # wait_for can lose a cancellation that comes with the answer
                        answer = unwired(await connection.recv())
                    if answer["type"] != "welcome":
                        raise ConnectionError(answer.get("sentence", "no welcome"))
                    self.connection, self.state, self.said = connection, "connected", ""
                    await self._welcomed(int(answer["heard"]))
                    async for data in connection:
                        await self._hear(unwired(data))
            except (OSError, ConnectionError, TimeoutError, websockets.WebSocketException) as error:
                self.said = self.said or str(error)[:300]  # the server's own sentence, where it sent one
            self.connection, self.state = None, "away"
            wait_s = 0.1 if time.monotonic() - began > 5 else min(_MOST_WAIT_S, wait_s * 2)
            await asyncio.sleep(wait_s)


class PackageLine:
    """A package's side: its scene told, its changes sent in order, once; what it is sent done and acknowledged."""

    def __init__(
        self,
        scene: SimulatedScene,
        server: str,
        show: str,
        token: str,
        changed: Callable[[str, list[float]], None],
        look: Callable[[float], None],
    ) -> None:
        self.scene, self.changed, self.look = scene, changed, look
        self._show, self._token = show, token
        self.line = Line(server, self._hello, self._welcomed, self._hear)

    def _hello(self) -> dict[str, Any]:
        scene = self.scene
        return {"type": "hello", "protocol": PROTOCOL, "client": scene.client, "kind": "package", "name": scene.name, "show": self._show,
                "profile": scene.profile, "token": self._token, "last": scene.last, "have": scene.have}  # fmt: skip

    async def _welcomed(self, heard: int) -> None:
        self.scene.acknowledged(heard)
        await self.tell_scene()
        for message in list(self.scene.outbox.values()):
            await self.line.send(message)

    async def tell_scene(self) -> None:
        scene = self.scene
        await self.line.send(
            {
                "type": "scene",
                "cameras": [c.entry() for c in scene.cameras.values()],
                "marks": scene.marks,
                "lines": scene.lines,
            }
        )
        await self.line.send({"type": "selection", "camera": scene.selected})

    async def make(self, camera: str, frames: list[float], values: dict[str, Any]) -> None:
        """A change made in the package: kept, then told."""
        message = self.scene.change(camera, frames, values)
        self.changed(camera, frames)
        await self.line.send(message)

    async def _hear(self, message: dict[str, Any]) -> None:
        kind = message["type"]
        if kind == "acknowledge":
            self.scene.acknowledged(int(message["number"]))
        elif kind == "change":
            if message["number"] > self.scene.have + 1:
                raise ConnectionError(f"change {message['number']} came where {self.scene.have + 1} was next")
            new = message["camera"] not in self.scene.cameras or message.get("replaces")
            held = self.scene.take(message)
            answer = {"type": "acknowledge", "number": message["number"]}
            await self.line.send(answer | ({"held": held} if held is not None else {}))
            if new:
                await self.tell_scene()
            self.changed(message["camera"], held["frames"] if held is not None else message["frames"])
        elif kind == "pull" and message.get("camera") in self.scene.cameras:
            await self.line.send(self.scene.whole(message["camera"]))
        elif kind == "pull" and message.get("camera") is None:
            await self.tell_scene()
        elif kind == "playhead":
            self.look(float(message["frame"]))
        elif kind == "error":
            self.line.said = str(message["sentence"])
