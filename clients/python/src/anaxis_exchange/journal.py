"""What must not be lost: who this package is, what it said and was not yet heard, and what it took.

A file of lines of JSON beside the scene. A line is on the disk before anything else is done about it, so that a package that is killed
comes back with every change it had.
"""

from __future__ import annotations

import json
import os
import uuid
from pathlib import Path
from typing import Any

_WRITTEN_ANEW_AFTER = 1500


class Journal:
    """``client`` is made up once. ``last`` is the highest number of a change made here, ``have`` the highest of the server's that was
    taken; ``outbox`` holds by number what was made here and is not acknowledged. ``cut_off``: the last process ended without closing
    it, so that the scene may hold what nobody was told of, or lack what was told."""

    def __init__(self, file: Path) -> None:
        self.file = Path(file)
        self.client, self.last, self.have = str(uuid.uuid4()), 0, 0
        self.outbox: dict[int, dict[str, Any]] = {}
        # By camera, group and frame the last change of the package's own.
        self._own: dict[tuple[str, str, float], int] = {}
        self._lines, self.cut_off = 0, self.file.exists()
        for line in self.file.read_text(encoding="utf-8").splitlines() if self.file.exists() else ():
            try:
                self._apply(json.loads(line))
            except ValueError:  # the line that was being written when the process ended: nobody was told of it
                break
        self.file.parent.mkdir(parents=True, exist_ok=True)
        self._write_anew()

    def close(self) -> None:
        """Everything that was done in the scene was told."""
        if not self._out.closed:
            self._done({"did": "closed"})
            self._out.close()

    def made(self, message: dict[str, Any]) -> dict[str, Any]:
        """A change made here, with its number. Kept until it is acknowledged."""
        message = {**message, "type": "change", "number": self.last + 1, "base": self.have}
        self._done({"did": "made", "message": message})
        return message

    def acknowledged(self, number: int) -> None:
        """Everything up to a number is in the server's database."""
        if any(n <= number for n in self.outbox):
            self._done({"did": "acknowledged", "number": number})

    def taken(self, number: int, base: int) -> None:
        """A change of the server's is done here; it was made when ``base`` of the changes made here were known there."""
        self._done({"did": "taken", "number": number, "base": base})

    def changed_since(self, base: int, camera: str, group: str, frame: float) -> bool:
        """Whether these numbers were changed here behind the change ``base``."""
        return self._own.get((camera, group, round(frame, 4)), 0) > base

    def _apply(self, event: dict[str, Any]) -> None:
        did = event["did"]
        self.cut_off = did != "closed"
        if did == "whole":
            self.client, self.last, self.have = event["client"], event["last"], event["have"]
            self.outbox = {int(m["number"]): m for m in event["outbox"]}
            self._own = {(camera, group, frame): number for camera, group, frame, number in event["own"]}
        elif did == "made":
            message = event["message"]
            self.last = int(message["number"])
            self.outbox[self.last] = message
            if not message.get("answers_pull"):
                for group in message["values"]:
                    for frame in message["frames"]:
                        self._own[message["camera"], group, round(frame, 4)] = self.last
        elif did == "acknowledged":
            self.outbox = {n: m for n, m in self.outbox.items() if n > event["number"]}
        elif did == "taken":
            self.have = max(self.have, event["number"])
            self._own = {cell: number for cell, number in self._own.items() if number > event["base"]}

    def _done(self, event: dict[str, Any]) -> None:
        self._out.write(json.dumps(event) + "\n")
        self._out.flush()
        os.fsync(self._out.fileno())
        self._apply(event)
        self._lines += 1
        if self._lines > _WRITTEN_ANEW_AFTER:
            self._out.close()
            self._write_anew()

    def _write_anew(self) -> None:
        """The whole in one line, in a new file that takes the place of the old one."""
        own = [[*cell, number] for cell, number in self._own.items()]
        whole = {"did": "whole", "client": self.client, "last": self.last, "have": self.have, "outbox": list(self.outbox.values()), "own": own}  # fmt: skip
        beside = self.file.with_name(self.file.name + ".new")
        with beside.open("w", encoding="utf-8") as out:
            out.write(json.dumps(whole) + "\n")
            out.flush()
            os.fsync(out.fileno())
        beside.replace(self.file)
        self._out = self.file.open("a", encoding="utf-8")
        self._lines = 0
