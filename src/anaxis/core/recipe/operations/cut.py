"""A cut where none was found, or none where one was."""

from __future__ import annotations

from typing import Literal

from anaxis.core.motion.cuts import with_mark
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.time.rates import format_frame


class Cut(Parameters):
    frame: Number = asked("First frame of what follows")
    way: Literal["a cut", "no cut"] = asked("It is")


def apply(work: Work, p: Cut) -> Work:
    return work.with_track(with_mark(work.done, p.frame, p.way == "a cut"))


KIND = Kind(
    "cut", "Cut", "track", Cut, apply, lambda p: f"{p.way} before frame {format_frame(p.frame)}", station="time"
)
