"""Frames where the camera jumps and comes back, drawn from their neighbours."""

from __future__ import annotations

from anaxis.core.motion.edits import bridged
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.spans import span_words


class Bridge(Parameters):
    first: Number = asked("From frame")
    last: Number | None = asked("To frame", default=None)


def apply(work: Work, p: Bridge) -> Work:
    return work.with_track(bridged(work.done, p.first, p.first if p.last is None else p.last))


KIND = Kind(
    "bridge",
    "Bridge a jump",
    "track",
    Bridge,
    apply,
    lambda p: f"frame {span_words(p.first, p.last)} from its neighbours",
)
