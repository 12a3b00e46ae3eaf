"""A complete host for a package that does not exist: its cameras lie in a file, and are moved by lines on standard input.

python made_up_host.py scene.json http://127.0.0.1:8400 "The show"
move shotcam 1010 0.5       moves the camera up by 0.5 on frame 1010
"""

from __future__ import annotations

import json
import os
import sys
import threading
from pathlib import Path
from queue import Empty, Queue

from anaxis_exchange import GROUPS, Camera, Exchange, Host, Numbers

USUAL = {
    "position": [0, 0, 0],
    "rotation": [0, 0, 0],
    "lens": [35, 36, 20.25, 0, 0, 1],
    "focus": [None],
    "stop": [None],
    "clips": [None, None],
}


class MadeUpHost(Host):
    """``scene`` holds by camera: name, rate, and by frame the numbers of every group. Frames are keys, as text."""

    profile = "yup-rh-m"  # this package's axes, unit and angles are those of the shipped profile of this key

    def __init__(self, file: Path) -> None:
        self.file = file
        self.scene = json.loads(file.read_text()) if file.exists() else self._new()
        self.frame = 1001.0

    def _new(self) -> dict:
        frames = {str(float(f)): {**USUAL, "position": [0.1 * (f - 1001), 1.7, 6.0]} for f in range(1001, 1049)}
        return {"shotcam": {"name": "shotcam", "rate": "24/1", "frames": frames}}

    def _save(self) -> None:
        beside = self.file.with_name(self.file.name + ".new")
        beside.write_text(json.dumps(self.scene))
        beside.replace(self.file)

    def cameras(self) -> list[Camera]:
        out = []
        for key, camera in self.scene.items():
            frames = sorted(float(f) for f in camera["frames"]) or [1.0]
            out.append(Camera(key, camera["name"], frames[0], frames[-1], camera["rate"]))
        return out

    def read(self, camera: str, frames: list[float] | None = None) -> Numbers:
        held = self.scene[camera]["frames"]
        frames = sorted(float(f) for f in held) if frames is None else [f for f in frames if str(f) in held]
        return Numbers(frames, {g: [list(held[str(f)][g]) for f in frames] for g in GROUPS})

    def write(self, camera: str, numbers: Numbers, replaces: bool) -> None:
        held = self.scene[camera]["frames"]
        if replaces:
            held = self.scene[camera]["frames"] = {str(f): held.get(str(f), dict(USUAL)) for f in numbers.frames}
        for i, frame in enumerate(numbers.frames):
            cells = held.setdefault(str(frame), dict(USUAL))
            cells.update({group: rows[i] for group, rows in numbers.values.items()})
        self._save()

    def add(self, camera: Camera) -> None:
        self.scene[camera.id] = {"name": camera.name, "rate": camera.rate, "frames": {}}
        self._save()

    def selected(self) -> str | None:
        return next(iter(self.scene), None)

    def current_frame(self) -> float | None:
        return self.frame

    def set_current_frame(self, frame: float) -> None:
        self.frame = frame

    def problem(self, sentence: str) -> None:
        print(f"Anaxis: {sentence}", file=sys.stderr, flush=True)

    def move(self, camera: str, frame: float, up: float) -> None:
        """What somebody does in the package."""
        self.scene[camera]["frames"][str(frame)]["position"][1] += up
        self._save()


def main() -> None:
    file, server, show = Path(sys.argv[1]), sys.argv[2], sys.argv[3]
    host = MadeUpHost(file)
    exchange = Exchange(host, server, file.with_suffix(".journal"), file.stem, show, os.environ.get("ANAXIS_TOKEN", ""))
    typed: Queue[str] = Queue()
    threading.Thread(target=lambda: [*map(typed.put, sys.stdin)], daemon=True).start()
    exchange.start()
    while True:  # the loop of this package
        try:
            _, camera, frame, up = typed.get(timeout=0.02).split()
            host.move(camera, float(frame), float(up))
            exchange.changed(camera, [float(frame)], ["position"])
        except Empty:
            pass
        exchange.step()


if __name__ == "__main__":
    main()
