"""The first frame's number; the others follow."""

from __future__ import annotations

from anaxis.core.motion.edits import renumbered
from anaxis.core.recipe.model import Kind, Number, Params, Work, asked
from anaxis.core.time.rates import format_frame


class Renumber(Params):
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
