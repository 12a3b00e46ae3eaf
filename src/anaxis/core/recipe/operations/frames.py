"""Operations on frames: range, gaps, rate, handles, cuts, numbers."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from anaxis.core.motion import resample
from anaxis.core.motion.cuts import with_mark
from anaxis.core.motion.edits import bridged, renumbered, without_gaps
from anaxis.core.motion.resample import with_handles
from anaxis.core.parameters import Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.spans import FIRST, LAST, ends, span_words
from anaxis.core.time.rates import format_frame, nearest_places, parse_rate


class Trim(Parameters):
    """The track cut down to a frame range."""

    first: Number | None = FIRST
    last: Number | None = LAST


def _trim(work: Work, p: Trim) -> Work:
    track = work.done.between(*ends(p.first, p.last))
    keep = np.flatnonzero(np.isin(work.done.frames, track.frames))
    return work.on_samples(track, keep)


TRIM = Kind("trim", "Trim", "track", Trim, _trim, lambda p: span_words(p.first, p.last))


class FillGaps(Parameters):
    """Samples that are no numbers, drawn from their neighbours."""


def _fill_gaps(work: Work, p: FillGaps) -> Work:
    return work.with_track(without_gaps(work.done))


FILL_GAPS = Kind(
    "fill_gaps",
    "Fill gaps",
    "track",
    FillGaps,
    _fill_gaps,
    lambda p: "invalid samples, interpolated from their neighbours",
)


class Bridge(Parameters):
    """Frames where the camera jumps and comes back, drawn from their neighbours."""

    first: Number = parameter("From frame")
    last: Number | None = parameter("To frame", default=None)


def _bridge(work: Work, p: Bridge) -> Work:
    return work.with_track(bridged(work.done, p.first, p.first if p.last is None else p.last))


BRIDGE = Kind(
    "bridge",
    "Interpolate a jump",
    "track",
    Bridge,
    _bridge,
    lambda p: f"frame {span_words(p.first, p.last)} from its neighbours",
)


class Rate(Parameters):
    """Retime to another frame rate: the same frames, or the same time."""

    rate: str = parameter("Rate, frames/s")
    keep: Literal["frames", "time"] = parameter("Keep the same")


def _rate(work: Work, p: Rate) -> Work:
    rate, track = parse_rate(p.rate), work.done
    made = resample.at_rate(track, rate, p.keep)
    if p.keep == "frames" or rate == track.rate:
        return work.with_track(made)
    at = track.frames[0] + float(track.rate / rate) * np.arange(len(made))
    marks = resample.landmarks_at(track, work.landmarks, at)
    around = tuple(s._replace(frames=np.interp(at, track.frames, s.frames)) for s in work.around)
    return replace(work, track=made, kept=work.kept[nearest_places(track.frames, at)], landmarks=marks, around=around)


RATE = Kind(
    "rate",
    "Retime",
    "track",
    Rate,
    _rate,
    lambda p: f"{p.rate} frames/s, same {p.keep}",
    station="time",
    moves_time=True,
)


class Handles(Parameters):
    """Frames added at both ends."""

    head: Number = parameter("Before", "frames", default=0.0)
    tail: Number = parameter("After", "frames", default=0.0)
    way: Literal["hold", "extend"] = parameter("How")


def _handles(work: Work, p: Handles) -> Work:
    head, tail = int(p.head), int(p.tail)
    made = with_handles(work.done, head, tail, p.way)
    index = np.clip(np.arange(-head, len(work.done) + tail), 0, len(work.done) - 1)
    return work.on_samples(made, index)


HANDLES = Kind(
    "handles",
    "Handles",
    "track",
    Handles,
    _handles,
    lambda p: f"{p.head:g} before, {p.tail:g} after, {p.way}",
    station="time",
    moves_time=True,
)


class Cut(Parameters):
    """A cut where none was found, or none where one was."""

    frame: Number = parameter("First frame after the cut")
    way: Literal["a cut", "no cut"] = parameter("It is")


def _cut(work: Work, p: Cut) -> Work:
    return work.with_track(with_mark(work.done, p.frame, p.way == "a cut"))


CUT = Kind("cut", "Cut", "track", Cut, _cut, lambda p: f"{p.way} before frame {format_frame(p.frame)}", station="time")


class Renumber(Parameters):
    """The first frame's number; the others follow."""

    first: Number = parameter("First frame")


def _renumber(work: Work, p: Renumber) -> Work:
    return work.with_track(renumbered(work.done, p.first))


RENUMBER = Kind(
    "renumber",
    "Renumber",
    "track",
    Renumber,
    _renumber,
    lambda p: f"from {format_frame(p.first)}",
    station="time",
    moves_time=True,
)
