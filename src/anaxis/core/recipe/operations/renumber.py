"""The first frame's number; the others follow."""

from __future__ import annotations

from anaxis.core.motion.edits import renumbered
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.time.rates import format_frame


class Renumber(Parameters):
    first: Number = asked("First frame")


def apply(work: Work, p: Renumber) -> Work:
    return work.with_track(renumbered(work.done, p.first))


KIND = Kind(
    "renumber",
    "Renumber",
    "track",
    Renumber,
    apply,
    lambda p: f"from {format_frame(p.first)}",
    station="time",
    moves_time=True,
)
