"""Every file started at the same frame."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class OwnFirst(Parameters):
    first: Number = asked("First frame", default=0.0)


def renumbered(s: Outbound, first: float, why: str) -> Outbound:
    """The first frame there, where the package asks for it, with a note of where the frames are."""
    moved = first - s.intended[0]
    if moved == 0:
        return s
    note = f"Frame {format_frame(s.intended[0])} here is frame {format_frame(first)} there, because the package {why}."
    track = replace(s.track, frames=s.track.frames + moved)
    return replace(s, track=track, intended=s.intended + moved, notes=(*s.notes, note))


def arrive(a: Arriving, p: OwnFirst, convention: Convention) -> Arriving:
    return a.on_frames(a.track.frames - a.track.frames[0] + p.first)


def undo(s: Outbound, p: OwnFirst) -> Outbound:
    return renumbered(s, p.first, words(p))


def words(p: OwnFirst) -> str:
    return f"starts every file at frame {number(p.first)}"


HABIT = HabitKind("own_first", "Starts at its own first frame", OwnFirst, arrive, undo, words, 1.2)
