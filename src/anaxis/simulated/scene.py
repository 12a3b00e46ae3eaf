"""The scene of a simulated package: cameras in its own numbers, kept in its file with all that it has to tell.

What happens is a line in a journal beside the file before anything else is done about it; the file itself is written
anew now and then. A process that is killed comes back with every change it had, those not yet acknowledged too.
"""

from __future__ import annotations

import json
import os
import uuid
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.simulated import habits, space
from anaxis.simulated.space import GROUPS, Rows, columns

_WRITTEN_ANEW_AFTER = 1500


@dataclass
class SimulatedCamera:
    """A camera: ``rows`` (n, 16) on ``frames`` (n,); ``touched`` (n, 6) the last change of the package's own that each group had."""

    id: str
    name: str
    rate: str
    width_px: int
    height_px: int
    pixel_aspect: float
    frames: Rows
    rows: Rows
    touched: Rows = field(default_factory=lambda: np.zeros((0, len(GROUPS))))

    def __post_init__(self) -> None:
        if len(self.touched) != len(self.frames):
            self.touched = np.zeros((len(self.frames), len(GROUPS)))

    @property
    def image(self) -> tuple[int, int, float]:
        return self.width_px, self.height_px, self.pixel_aspect

    def entry(self) -> dict[str, Any]:
        first, last = (float(self.frames[0]), float(self.frames[-1])) if len(self.frames) else (1.0, 1.0)
        return {"id": self.id, "name": self.name, "first": first, "last": last, "rate": self.rate, "width_px": self.width_px,
                "height_px": self.height_px, "pixel_aspect": self.pixel_aspect}  # fmt: skip

    def places(self, frames: Rows) -> tuple[Any, Any]:
        if not len(self.frames):
            return np.zeros(len(frames), dtype=np.int64), np.zeros(len(frames), dtype=np.bool_)
        at = np.clip(np.searchsorted(self.frames, frames - 1e-3), 0, len(self.frames) - 1)
        return at, np.abs(self.frames[at] - frames) <= 1e-3

    def nearest(self, frames: Rows) -> Rows:
        if not len(self.frames):
            return np.full((len(frames), space.WIDTH), np.nan)
        behind = np.clip(np.searchsorted(self.frames, frames), 0, len(self.frames) - 1)
        before = np.maximum(behind - 1, 0)
        closer = np.abs(self.frames[before] - frames) <= np.abs(self.frames[behind] - frames)
        return np.asarray(self.rows[np.where(closer, before, behind)])

    def make_room(self, frames: Rows) -> None:
        """Frames that are not there yet are, at the nearest one's numbers."""
        _, there = self.places(frames)
        new = frames[~there]
        if len(new):
            rows, touched = self.nearest(new), np.zeros((len(new), len(GROUPS)))
            order = np.argsort(np.concatenate([self.frames, new]), kind="stable")
            self.frames = np.concatenate([self.frames, new])[order]
            self.rows = np.concatenate([self.rows, rows])[order]
            self.touched = np.concatenate([self.touched, touched])[order]


def values_of(rows: Rows, groups: list[str]) -> dict[str, list[list[float | None]]]:
    return {g: [[None if v != v else v for v in row] for row in rows[:, columns(g)].tolist()] for g in groups}


def rows_of(count: int, values: dict[str, Any]) -> Rows:
    rows = np.full((count, space.WIDTH), np.nan)
    for group, part in values.items():
        rows[:, columns(group)] = np.array(part, dtype=np.float64).reshape(count, GROUPS[group])
    return rows


def write_whole(file: Path, document: dict[str, Any]) -> None:
    """A document in its file, whole or as it was before."""
    file.parent.mkdir(parents=True, exist_ok=True)
    beside = file.with_name(file.name + ".new")
    with beside.open("w", encoding="utf-8") as out:
        json.dump(document, out)
        out.flush()
        os.fsync(out.fileno())
    beside.replace(file)


def lines_of(journal: Path) -> Iterator[dict[str, Any]]:
    """The documents of a journal, a line each; the line that was being written when the process ended is none."""
    for line in journal.read_text(encoding="utf-8").splitlines() if journal.exists() else ():
        try:
            yield json.loads(line)
        except ValueError:  # nobody was told of it
            return


class SimulatedScene:
    """``last`` is the highest number of a change made here, ``have`` the highest of the server's that is here; ``outbox`` holds
    what was made here and is not acknowledged."""

    def __init__(self, file: Path, document: dict[str, Any]) -> None:
        self.file, self.journal = file, file.with_name(file.name + ".journal")
        self.profile: dict[str, Any] = document["profile"]
        self.name: str = document["name"]
        self.client: str = document.get("client") or str(uuid.uuid4())
        self.last, self.have = int(document.get("last", 0)), int(document.get("have", 0))
        self.outbox: dict[int, dict[str, Any]] = {int(m["number"]): m for m in document.get("outbox", [])}
        self.marks: list[dict[str, Any]] = document.get("marks", [])
        self.lines: list[list[float]] = document.get("lines", [])
        self.selected: str | None = document.get("selected")
        self.cameras: dict[str, SimulatedCamera] = {}
        for held in document.get("cameras", []):
            frames = np.array(held["frames"], dtype=np.float64)
            self.cameras[held["id"]] = SimulatedCamera(
                held["id"], held["name"], held["rate"], held["width_px"], held["height_px"], held["pixel_aspect"], frames,
                rows_of(len(frames), held["values"]), np.array(held.get("touched", []), dtype=np.float64).reshape(-1, len(GROUPS)),
            )  # fmt: skip
        self._lines_in_journal = 0
        self._journal: Any = None

    @classmethod
    def opened(cls, file: Path, made_up: dict[str, Any] | None = None) -> SimulatedScene:
        """The scene of a file, with what its journal holds; a new one of ``made_up`` where there is none."""
        if file.exists():
            document = json.loads(file.read_text(encoding="utf-8"))
            document |= {"profile": made_up["profile"]} if made_up is not None else {}
        elif made_up is not None:
            document = made_up
        else:
            raise FileNotFoundError(file)
        scene = cls(file, document)
        scene._replay()
        scene.write_anew()
        return scene

    def _replay(self) -> None:
        """What the journal holds, done again: each change is known by its number, so that twice is once."""
        for event in lines_of(self.journal):
            self._apply(event)

    def write_anew(self) -> None:
        """The whole scene in its file, and an empty journal."""
        document = {
            "name": self.name, "client": self.client, "profile": self.profile, "last": self.last, "have": self.have,
            "outbox": list(self.outbox.values()), "marks": self.marks, "lines": self.lines, "selected": self.selected,
            "cameras": [
                {**c.entry(), "frames": c.frames.tolist(), "values": values_of(c.rows, list(GROUPS)), "touched": c.touched.tolist()}
                for c in self.cameras.values()
            ],
        }  # fmt: skip
        write_whole(self.file, document)
        if self._journal is not None:
            self._journal.close()
        self._journal = self.journal.open("w", encoding="utf-8")
        self._lines_in_journal = 0

    def _write(self, event: dict[str, Any]) -> None:
        self._journal.write(json.dumps(event) + "\n")
        self._journal.flush()
        if event["did"] != "acknowledged":  # one that is lost is told again, and known by its number
            os.fsync(self._journal.fileno())
        self._lines_in_journal += 1

    def _done(self, event: dict[str, Any]) -> None:
        """An event written down, then done."""
        self._write(event)
        self._apply(event)
        if self._lines_in_journal > _WRITTEN_ANEW_AFTER:
            self.write_anew()

    def _apply(self, event: dict[str, Any]) -> None:
        {"made": self._apply_made, "taken": self._apply_taken, "acknowledged": self._apply_acknowledged}[event["did"]](
            event
        )

    # Made here

    def change(self, camera: str, frames: list[float], values: dict[str, Any]) -> dict[str, Any]:
        """A change made in the package: its message."""
        message = {
            "type": "change",
            "number": self.last + 1,
            "camera": camera,
            "base": self.have,
            "frames": frames,
            "values": values,
        }
        self._done({"did": "made", "message": message})
        return message

    def whole(self, camera: str) -> dict[str, Any]:
        """All frames of a camera, as they are: the answer to a pull."""
        held = self.cameras[camera]
        message = {"type": "change", "number": self.last + 1, "camera": camera, "base": self.have, "replaces": True, "answers_pull": True,
                   "entry": held.entry(), "frames": held.frames.tolist(), "values": values_of(held.rows, list(GROUPS))}  # fmt: skip
        self._done({"did": "made", "message": message})
        return message

    def _apply_made(self, event: dict[str, Any]) -> None:
        message = event["message"]
        number = int(message["number"])
        if number <= self.last:
            return
        self.last, self.outbox[number] = number, message
        if message.get("answers_pull"):
            return
        held = self.cameras[message["camera"]]
        frames = np.array(message["frames"], dtype=np.float64)
        held.make_room(frames)
        place, _ = held.places(frames)
        rows = rows_of(len(frames), message["values"])
        for i, group in enumerate(GROUPS):
            if group in message["values"]:
                held.rows[place, columns(group)] = rows[:, columns(group)]
                held.touched[place, i] = number

    def acknowledged(self, number: int) -> None:
        if any(n <= number for n in self.outbox):
            self._done({"did": "acknowledged", "number": number})

    def _apply_acknowledged(self, event: dict[str, Any]) -> None:
        self.outbox = {n: m for n, m in self.outbox.items() if n > event["number"]}

    # Taken from the server

    def take(self, message: dict[str, Any]) -> dict[str, Any] | None:
        """A change of the server's: done, unless it is known, and what is held then where that is not what was sent."""
        if message["number"] > self.have:
            self._done({"did": "taken", "message": message})
        return self._held_instead(message)

    def _arriving(self, message: dict[str, Any]) -> tuple[SimulatedCamera, Rows, Rows]:
        """The camera, and frames and rows as they are here after the package's habits."""
        entry = message.get("entry") or {}
        held = self.cameras.get(message["camera"])
        if held is None:
            held = SimulatedCamera(
                message["camera"], entry.get("name", message["camera"]), entry.get("rate", "24/1"), int(entry.get("width_px", 1920)),
                int(entry.get("height_px", 1080)), float(entry.get("pixel_aspect", 1.0)), np.zeros(0), np.zeros((0, space.WIDTH)),
            )  # fmt: skip
        frames = np.array(message["frames"], dtype=np.float64)
        rows, sent = held.nearest(frames), rows_of(len(frames), message["values"])
        for group in message["values"]:
            rows[:, columns(group)] = sent[:, columns(group)]
        there, done = habits.arrived(self.profile, frames, rows, held.image)
        return held, there, done

    def _apply_taken(self, event: dict[str, Any]) -> None:
        message = event["message"]
        if message["number"] <= self.have:
            return
        held, frames, rows = self._arriving(message)
        self.have = int(message["number"])
        self.cameras[held.id] = held
        for name, value in (message.get("entry") or {}).items():
            if name in ("rate", "width_px", "height_px", "pixel_aspect"):
                setattr(held, name, value)
        if message.get("replaces"):
            place, there = held.places(frames)
            touched = np.zeros((len(frames), len(GROUPS)))
            kept = np.full((len(frames), space.WIDTH), np.nan)
            touched[there], kept[there] = held.touched[place[there]], held.rows[place[there]]
            kept[~there] = rows[~there]
            held.frames, held.rows, held.touched = frames, kept, touched
        held.make_room(frames)
        place, _ = held.places(frames)
        for i, group in enumerate(GROUPS):
            if group in message["values"]:
                # What was changed here and was not known there when this was sent stays: the server sees that both changed.
                free = held.touched[place, i] <= message["base"]
                held.rows[place[free], columns(group)] = rows[free, columns(group)]

    def _held_instead(self, message: dict[str, Any]) -> dict[str, Any] | None:
        held, frames, _ = self._arriving(message)
        place, _ = held.places(frames)
        now = held.rows[place]
        sent_frames = np.array(message["frames"], dtype=np.float64)
        sent = rows_of(len(sent_frames), message["values"])
        groups = [g for g in GROUPS if g in message["values"]]
        same = len(frames) == len(sent_frames) and bool((frames == sent_frames).all())
        for group in groups if same else ():
            a, b = now[:, columns(group)], sent[:, columns(group)]
            same = same and bool(((a == b) | (np.isnan(a) & np.isnan(b))).all())
        return None if same else {"frames": frames.tolist(), "values": values_of(now, groups)}
