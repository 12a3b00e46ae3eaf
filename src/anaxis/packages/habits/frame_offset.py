"""Every frame some frames late."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FrameOffset(Parameters):
    frames: Number = asked("Later by", "frames", default=1.0)


def arrive(a: Arriving, p: FrameOffset, convention: Convention) -> Arriving:
    return a.on_frames(a.track.frames + p.frames)


def undo(s: Outbound, p: FrameOffset) -> Outbound:
    return replace(s, track=replace(s.track, frames=s.track.frames - p.frames))


def words(p: FrameOffset) -> str:
    count = abs(p.frames)
    return f"shows every frame {number(count)} frame{'s' * (count != 1)} {'late' if p.frames > 0 else 'early'}"


HABIT = HabitKind("frame_offset", "Is some frames late", FrameOffset, arrive, undo, words)
