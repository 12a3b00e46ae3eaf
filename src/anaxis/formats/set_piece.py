"""An object of the set as a file holds it, and when a file's frames come: what every writer of sets is handed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

import numpy as np

from anaxis.core.motion.set_objects import SetObject
from anaxis.core.time.rates import seconds_of
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import FileAxes


class SetPiece(NamedTuple):
    """An object under a legal ``name``, below a ``group`` ("" for none); ``matrix`` (1 or n, 4, 4) takes its own points to the
    file's world, in the file's axes and unit."""

    name: str
    group: str
    shown: SetObject
    matrix: Floats

    @property
    def world(self) -> Floats:
        """The points (p, 3) of an object that stands still, in the file's world."""
        return np.asarray(self.shown.points[0] @ self.matrix[0, :3, :3].T + self.matrix[0, :3, 3])


class SetTimes(NamedTuple):
    """The frames (n,) that a set moves on, their rate, and which frame is at 0 s in files that count seconds."""

    frames: Floats
    rate: Fraction
    zero_frame: float = 0.0

    @property
    def seconds(self) -> Floats:
        return seconds_of(self.frames - self.zero_frame, self.rate)


SetWriter = Callable[[Path, Sequence[SetPiece], SetTimes, FileAxes], None]
