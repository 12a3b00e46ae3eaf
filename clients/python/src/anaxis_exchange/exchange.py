"""A package's side of the exchange: its scene told, its changes sent once and in order, what it is sent done and acknowledged."""

from __future__ import annotations

import queue
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from anaxis_exchange.connection import Connection
from anaxis_exchange.host import GROUPS, Camera, Host, Numbers
from anaxis_exchange.journal import Journal

PROTOCOL = 1


class Exchange:
    """A package connected to a server.

    Parameters:
        host: the package.
        server: the address of Anaxis, such as http://127.0.0.1:8400.
        journal: a file beside the scene, which this library keeps.
        name: what people call this scene.
        show: the show that it belongs to.
        token: of the page of whoever connects.

    The network has a thread of its own. The host is called by :meth:`step` alone, in the thread that calls it: call it from a timer of
    the host's main thread, or call :meth:`run` in a program that has no other loop.
    """

    def __init__(self, host: Host, server: str, journal: str | Path, name: str, show: str, token: str = "") -> None:
        self.host, self.name, self.show, self.token = host, name, show, token
        self.journal = Journal(Path(journal))
        self.connection = Connection(server, self._hello)
        self._told: tuple[Any, Any, Any] = (None, None, None)
        self._over, self._unsure = False, self.journal.cut_off

    @property
    def state(self) -> str:
        """ "connected" or "away"."""
        return self.connection.state

    @property
    def said(self) -> str:
        """Why it is away, as a sentence of the server's or the network's."""
        return self.connection.said

    def start(self) -> None:
        """Connect, and stay connected."""
        self.connection.start()

    def close(self) -> None:
        """Disconnect. What was not heard yet is in the journal, and is sent the next time."""
        self._over = True
        self.connection.close()
        self.journal.close()

    def run(self, every_s: float = 0.02) -> None:
        """Start, and step until closed: for a program without a loop of its own."""
        self.start()
        while not self._over:
            self.step()
            time.sleep(every_s)

    def step(self) -> None:
        """Do what came since the last step, and tell what else changed here. Returns at once."""
        while not self._over:
            try:
                message = self.connection.heard.get_nowait()
            except queue.Empty:
                break
            self._hear(message)
        if self.state == "connected" and not self._over:
            self._tell_what_moved()

    def changed(self, camera: str, frames: Iterable[float], groups: Iterable[str] | None = None) -> None:
        """Somebody changed these groups (all where None) of a camera on these frames: kept in the journal, then sent."""
        numbers = self.host.read(camera, [float(f) for f in frames])
        wanted = [g for g in GROUPS if groups is None or g in set(groups)]
        values = {g: numbers.values[g] for g in wanted}
        self.connection.send(self.journal.made({"camera": camera, "frames": numbers.frames, "values": values}))

    def replaced(self, camera: str) -> None:
        """Somebody gave a camera another range of frames, or keyed it anew: all of it is sent."""
        self.tell_scene()
        self._send_whole(camera, answers_pull=False)

    def tell_scene(self) -> None:
        """Send the list of cameras: after one was added, renamed or removed."""
        cameras = [c.entry() for c in self.host.cameras()]
        self.connection.send({"type": "scene", "cameras": cameras, "marks": [], "lines": []})
        self._told = (cameras, None, None)

    # What is heard

    def _hello(self) -> dict[str, Any]:
        return {
            "type": "hello", "protocol": PROTOCOL, "client": self.journal.client, "kind": "package", "name": self.name, "show": self.show,
            "profile": self.host.profile, "token": self.token, "last": self.journal.last, "have": self.journal.have,
        }  # fmt: skip

    def _hear(self, message: dict[str, Any]) -> None:
        kind = message["type"]
        if kind == "welcome":
            self.connection.greeted = True
            self.journal.acknowledged(int(message["heard"]))
            self.tell_scene()
            for kept in list(self.journal.outbox.values()):
                self.connection.send(kept)
            if self._unsure:  # the package crashed: what it holds now is said as a whole
                self._unsure = False
                for camera in self.host.cameras():
                    self._send_whole(camera.id, answers_pull=False)
        elif kind == "acknowledge":
            self.journal.acknowledged(int(message["number"]))
        elif kind == "change":
            self._take(message)
        elif kind == "pull":
            if message.get("camera") in {c.id for c in self.host.cameras()}:
                self._send_whole(message["camera"], answers_pull=True)
            else:
                self.tell_scene()
        elif kind == "playhead":
            self.host.set_current_frame(float(message["frame"]))
        elif kind == "error":
            self.host.problem(str(message.get("sentence", "")))
        # What is not known is of a later version of the protocol, and is left alone.

    def _take(self, message: dict[str, Any]) -> None:
        """A change of the server's: done where it is the next one; known ones are answered again and not done again."""
        number, new = int(message["number"]), False
        if number > self.journal.have + 1:  # one between was lost on the way: a new connection brings all of them
            self.connection.cut()
            return
        if number > self.journal.have:
            new = self._do(message)
            self.journal.taken(number, int(message["base"]))
        answer = {"type": "acknowledge", "number": number}
        held = self._held_instead(message)
        self.connection.send(answer if held is None else {**answer, "held": held})
        if new or message.get("replaces"):
            self.tell_scene()

    def _do(self, message: dict[str, Any]) -> bool:
        """Write a change into the host, but for what was changed here meanwhile. Returns whether the camera is new."""
        camera, frames, values = message["camera"], message["frames"], message["values"]
        new = camera not in {c.id for c in self.host.cameras()}
        if new:
            entry = {"name": camera, "first": frames[0], "last": frames[-1], **(message.get("entry") or {})}
            self.host.add(
                Camera(**{k: v for k, v in {**entry, "id": camera}.items() if k in Camera.__dataclass_fields__})
            )
        kept = {
            g: [f for f in frames if self.journal.changed_since(int(message["base"]), camera, g, f)] for g in values
        }
        if message.get("replaces"):
            own = (
                self.host.read(camera, sorted({f for fs in kept.values() for f in fs})) if any(kept.values()) else None
            )
            self.host.write(camera, Numbers(frames, values), True)
            if own is not None:
                self._write_by_group(
                    camera,
                    own.frames,
                    own.values,
                    {g: [f for f in own.frames if f not in fs] for g, fs in kept.items()},
                )
        else:
            self._write_by_group(camera, frames, values, kept)
        return new

    def _write_by_group(
        self, camera: str, frames: list[float], values: dict[str, Any], but: dict[str, list[float]]
    ) -> None:
        """Write each group on all frames but some; groups that go on the same frames go together."""
        by_frames: dict[tuple[int, ...], list[str]] = {}
        for group in but:
            free = tuple(i for i, f in enumerate(frames) if f not in set(but[group]))
            by_frames.setdefault(free, []).append(group)
        for places, groups in by_frames.items():
            if places:
                rows = {g: [values[g][i] for i in places] for g in groups}
                self.host.write(camera, Numbers([frames[i] for i in places], rows), False)

    def _held_instead(self, message: dict[str, Any]) -> dict[str, Any] | None:
        """What the host holds on the frames of a change, where that is another thing than was sent."""
        frames, groups = message["frames"], [g for g in GROUPS if g in message["values"]]
        now = self.host.read(message["camera"], frames)
        if now.frames == frames and all(now.values[g] == message["values"][g] for g in groups):
            return None
        return {"frames": now.frames, "values": {g: now.values[g] for g in groups}}

    def _send_whole(self, camera: str, answers_pull: bool) -> None:
        entry = next(c for c in self.host.cameras() if c.id == camera).entry()
        numbers = self.host.read(camera)
        said = {"camera": camera, "replaces": True, "entry": entry, "frames": numbers.frames, "values": numbers.values}
        self.connection.send(self.journal.made({**said, **({"answers_pull": True} if answers_pull else {})}))

    def _tell_what_moved(self) -> None:
        """The camera chosen and the frame shown, where they are others than were told."""
        cameras, selected, frame = self._told
        if cameras is None:
            return
        if self.host.selected() != selected:
            selected = self.host.selected()
            self.connection.send({"type": "selection", "camera": selected})
        now = self.host.current_frame()
        if now is not None and now != frame:
            frame = now
            self.connection.send({"type": "playhead", "frame": now})
        self._told = (cameras, selected, frame)
