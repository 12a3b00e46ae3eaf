"""A plate's pictures one after the other, as they are shown, read apart and a batch at a time: what lies below a film."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import BinaryIO

import cv2
import numpy as np

from anaxis.core.names import listed
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Bytes
from anaxis.formats.plates import MOVIE_SUFFIXES
from anaxis.formats.plates.display import USUAL_VIEW
from anaxis.sandbox.messages import Document
from anaxis.sandbox.plates import plate_work

_MOST_NAMED = 5


class PlateFrames:
    """Called with frames of the camera in rising order, gives the plate's picture (h, w, 3; blue, green, red) of each, no wider
    than ``width_px``, or None. ``files`` are the plate's by its own numbers, a movie under 0; ``offset`` takes these to frames."""

    def __init__(
        self, files: Mapping[int, Path], width_px: int, offset: int = 0, view: str = USUAL_VIEW, stops: float = 0.0,
        opened: Callable[[Path], BinaryIO] | None = None,
    ) -> None:  # fmt: skip
        self._files, self._offset = dict(files), offset
        self._movie = len(files) == 1 and next(iter(files.values())).suffix.lower() in MOVIE_SUFFIXES
        self._task: Document = {"do": "proxies", "view": view, "stops": stops, "width_px": width_px}
        self._opened = opened
        self._coming: Iterator[Document] | None = None
        self._newest: tuple[int, Bytes | None] | None = None
        self._bare: list[int] = []
        self._broken: dict[int, str] = {}

    def __call__(self, frame: int) -> Bytes | None:
        number = frame - self._offset
        found = self._at(number) if self._movie or number in self._files else None
        if found is None and (not self._bare or self._bare[-1] != frame):
            self._bare.append(frame)
        return found

    def _at(self, number: int) -> Bytes | None:
        if self._coming is None:
            self._coming = self._work(number)
        while self._newest is None or self._newest[0] < number:
            done = next(self._coming, None)
            if done is None:
                return None
            at = int(done["number"] if "number" in done else done["frame"])
            if "error" in done:
                self._broken[at] = done["error"]
            self._newest = (at, None if "error" in done else _decoded(done["data"]))
        return self._newest[1] if self._newest[0] == number else None

    def _work(self, first: int) -> Iterator[Document]:
        files = self._files if self._movie else {n: f for n, f in sorted(self._files.items()) if n >= first}
        begun = {"first": max(0, first)} if self._movie else {}
        return partial(plate_work, self._task | begun, files, opened=self._opened)()

    @property
    def notes(self) -> list[str]:
        """Sentences about frames that have had no picture so far."""
        said = [
            f"Frame {number + self._offset} of the plate: {why}"
            for number, why in list(self._broken.items())[:_MOST_NAMED]
        ]
        if self._bare:
            frames = [format_frame(float(f)) for f in self._bare]
            said.append(f"The plate has no frame {listed(frames, _MOST_NAMED)}: the view is empty there.")
        return said


def _decoded(data: bytes) -> Bytes:
    return np.asarray(cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR), dtype=np.uint8)
