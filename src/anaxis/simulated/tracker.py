"""A simulated hand-held tracker: sixty samples a second of a made-up walk, with what such devices do to them.

Its positions are in metres from where it was switched on, up along gravity; its picture stands upright; its clock is its
own: it began some day, and runs a little fast. A sample is missing now and then, each shakes a little, and once in a
while the device takes itself to be elsewhere. What it measured and the server has not acknowledged is kept in its file.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
import uuid
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.simulated.client import PROTOCOL, Line
from anaxis.simulated.scene import lines_of, write_whole
from anaxis.simulated.space import Rows

_BATCH_S = 0.1


@dataclass(frozen=True)
class Device:
    """``jitter_mm`` and ``jitter_deg`` are standard deviations; ``drops`` is the share of samples that are missing; ``jump_every_s``
    how often it finds itself elsewhere, 0 for never, by ``jump_m`` and ``jump_deg``; ``clock_ppm`` how fast its clock runs."""

    rate: float = 60.0
    jitter_mm: float = 0.6
    jitter_deg: float = 0.03
    drops: float = 0.01
    jump_every_s: float = 7.0
    jump_m: float = 0.35
    jump_deg: float = 6.0
    clock_ppm: float = 40.0
    clock_began_s: float = 48211.25
    width_px: int = 1440
    height_px: int = 1920
    focal_px: float = 1512.0
    seed: int = 5


def walk(seconds: Rows) -> tuple[Rows, Rows]:
    """The true motion: places (n, 3) in metres from the start (right, up, back) and rotations (n, 3, 3) of a camera along -Z."""
    t = np.asarray(seconds, dtype=np.float64)
    begun = np.clip(t / 1.5, 0, 1) ** 2  # it stands before it walks
    place = np.stack(
        [
            0.5 * np.sin(0.45 * t) * begun,
            (0.03 * np.sin(2 * np.pi * 1.7 * t) + 0.08 * np.sin(0.5 * t)) * begun,
            -0.45 * t * begun,
        ],
        axis=1,
    )
    yaw, pitch, roll = (
        np.radians((18 * np.sin(0.37 * t)) * begun), np.radians((6 * np.sin(0.61 * t) - 2) * begun), np.radians(1.2 * np.sin(2 * np.pi * 0.85 * t) * begun),
    )  # fmt: skip
    turned = Rotation.from_euler("YXZ", np.stack([yaw, pitch, roll], axis=1)).as_matrix()
    return place, turned


def measured(device: Device, seconds: Rows) -> tuple[Rows, np.ndarray[Any, np.dtype[np.bool_]]]:
    """Rows (k, 12) that the device tells of true times (n,), and which of them (n,) it tells at all."""
    rng = np.random.default_rng([device.seed, int(seconds[0] * 1000)])
    place, turned = walk(seconds)
    if device.jump_every_s > 0:
        for number in range(1, int(seconds[-1] / device.jump_every_s) + 1):
            behind = seconds >= number * device.jump_every_s
            way = np.random.default_rng([device.seed, number])
            turn = Rotation.from_euler("Y", way.choice([-1, 1]) * device.jump_deg, degrees=True).as_matrix()
            shift = way.normal(size=3) * [1, 0.2, 1]
            shift *= device.jump_m / np.linalg.norm(shift)
            place[behind] = place[behind] @ turn.T + shift
            turned[behind] = turn @ turned[behind]
    place = place + rng.normal(scale=device.jitter_mm / 1000, size=place.shape)
    shake = Rotation.from_rotvec(np.radians(rng.normal(scale=device.jitter_deg, size=place.shape)))
    quaternion = (Rotation.from_matrix(turned) * shake).as_quat()
    clock = device.clock_began_s + seconds * (1 + device.clock_ppm * 1e-6)
    lens = np.tile(
        [device.focal_px, device.focal_px, device.width_px / 2 + 3.5, device.height_px / 2 - 5.25], (len(seconds), 1)
    )
    rows = np.column_stack([clock, place, quaternion, lens])
    told = rng.random(len(seconds)) >= device.drops
    told[0] = True
    return rows, told


class Tracker:
    """The device's process: measures all the time, tells what it is asked to record, keeps what is not acknowledged."""

    def __init__(self, file: Path, name: str, device: Device, server: str, show: str, token: str) -> None:
        self.file, self.name, self.device, self._show, self._token = file, name, device, show, token
        held = json.loads(file.read_text(encoding="utf-8")) if file.exists() else {}
        self.client: str = held.get("client") or str(uuid.uuid4())
        self.last = int(held.get("last", 0))
        self.outbox: dict[int, dict[str, Any]] = {int(m["number"]): m for m in held.get("outbox", [])}
        self.recording: int | None = held.get("recording")
        self._journal_file = file.with_name(file.name + ".journal")
        for message in lines_of(self._journal_file):
            if message["number"] > self.last:
                self.last = message["number"]
                self.outbox[self.last] = message
        self.line = Line(server, self._hello, self._welcomed, self._hear)
        self._began = time.monotonic()
        self._keep()

    def _keep(self) -> None:
        document = {
            "client": self.client,
            "last": self.last,
            "recording": self.recording,
            "outbox": list(self.outbox.values()),
        }
        write_whole(self.file, document)
        self._journal_file.write_text("", encoding="utf-8")

    def _hello(self) -> dict[str, Any]:
        return {"type": "hello", "protocol": PROTOCOL, "client": self.client, "kind": "tracker", "name": self.name, "show": self._show,
                "profile": "", "token": self._token, "last": self.last, "have": 0}  # fmt: skip

    async def _welcomed(self, heard: int) -> None:
        self._drop(heard)
        for message in list(self.outbox.values()):
            await self.line.send(message)

    def _drop(self, number: int) -> None:
        before = len(self.outbox)
        self.outbox = {n: m for n, m in self.outbox.items() if n > number}
        if before and not self.outbox:
            self._keep()

    async def _hear(self, message: dict[str, Any]) -> None:
        if message["type"] == "acknowledge":
            self._drop(int(message["number"]))
        elif message["type"] == "record":
            number = int(message["recording"])
            if message["on"]:
                self.recording = number
            else:
                own = self.recording == number
                self.recording = None if own else self.recording
                await self.tell([], number, last=True)
            self._keep()
        elif message["type"] == "error":
            self.line.said = str(message["sentence"])

    async def tell(self, samples: list[list[float]], recording: int | None, last: bool = False) -> None:
        """Samples of a recording: kept, then told."""
        self.last += 1
        message = {"type": "samples", "number": self.last, "recording": recording, "width_px": self.device.width_px, "height_px": self.device.height_px,
                   "samples": samples, "last": last}  # fmt: skip
        self.outbox[self.last] = message
        with self._journal_file.open("a", encoding="utf-8") as journal:
            journal.write(json.dumps(message) + "\n")
        await self.line.send(message)

    async def measure(self) -> None:
        """A batch every tenth of a second, of what was measured since the last."""
        told = 0
        while True:
            await asyncio.sleep(_BATCH_S)
            until = int((time.monotonic() - self._began) * self.device.rate)
            if until <= told:
                continue
            rows, said = measured(self.device, np.arange(told, until) / self.device.rate)
            told = until
            if self.recording is not None and said.any():
                await self.tell(rows[said].tolist(), self.recording)

    async def run(self) -> None:
        tasks = [asyncio.create_task(self.line.run()), asyncio.create_task(self.measure())]
        with contextlib.suppress(asyncio.CancelledError):
            await asyncio.gather(*tasks)


def run(file: Path, name: str, device: Device, server: str, show: str, token: str) -> None:
    """Until it is stopped."""
    asyncio.run(Tracker(file, name, device, server, show, token).run())
