"""Habits about frames: their numbers, rate, and which of them are read."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import field_validator

from anaxis.core.parameters import Number, Parameters, Positive, parameter
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame, parse_rate, rate_label
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number
from anaxis.packages.habits.lens import STILL, lens_moves


class FrameOffset(Parameters):
    """Every frame some frames late."""

    frames: Number = parameter("Later by", "frames", default=1.0)


def _frame_offset_arrives(a: Arriving, p: FrameOffset, convention: Convention) -> Arriving:
    return a.on_frames(a.track.frames + p.frames)


def _frame_offset_undone(s: Outbound, p: FrameOffset) -> Outbound:
    return replace(s, track=replace(s.track, frames=s.track.frames - p.frames))


def _frame_offset_words(p: FrameOffset) -> str:
    count = abs(p.frames)
    return f"shows every frame {number(count)} frame{'s' * (count != 1)} {'late' if p.frames > 0 else 'early'}"


FRAME_OFFSET = HabitKind(
    "frame_offset",
    "Shows frames late or early",
    FrameOffset,
    _frame_offset_arrives,
    _frame_offset_undone,
    _frame_offset_words,
    on_objects=True,
)


class OwnRate(Parameters):
    """The file's time played at a rate of the package's own."""

    rate: str = parameter("Rate, frames/s", default="30")

    @field_validator("rate", mode="before")
    @classmethod
    def _a_rate(cls, rate: Any) -> str:
        parse_rate(str(rate))
        return str(rate)


def _own_rate_arrives(a: Arriving, p: OwnRate, convention: Convention) -> Arriving:
    rate = parse_rate(p.rate)
    return replace(a, track=replace(a.track, frames=a.track.frames * float(rate / a.track.rate), rate=rate))


def _own_rate_undone(s: Outbound, p: OwnRate) -> Outbound:
    rate = parse_rate(p.rate)
    return s if rate == s.track.rate else replace(s, track=replace(s.track, rate=rate))


def _own_rate_words(p: OwnRate) -> str:
    return f"plays the time of the file at {rate_label(parse_rate(p.rate))} frames/s instead of the rate of the file"


OWN_RATE = HabitKind(
    "own_rate", "Uses its own rate", OwnRate, _own_rate_arrives, _own_rate_undone, _own_rate_words, 1.2, on_objects=True
)


class OwnFirst(Parameters):
    """Every file started at the same frame."""

    first: Number = parameter("First frame", default=0.0)


def renumbered(s: Outbound, first: float, why: str) -> Outbound:
    """The first frame there, where the package asks for it, with a note of where the frames are."""
    moved = first - s.intended[0]
    if moved == 0:
        return s
    note = f"Frame {format_frame(s.intended[0])} is frame {format_frame(first)} there, because the package {why}."
    track = replace(s.track, frames=s.track.frames + moved)
    return replace(s, track=track, intended=s.intended + moved, notes=(*s.notes, note))


def _own_first_arrives(a: Arriving, p: OwnFirst, convention: Convention) -> Arriving:
    return a.on_frames(a.track.frames - a.track.frames[0] + p.first)


def _own_first_undone(s: Outbound, p: OwnFirst) -> Outbound:
    return renumbered(s, p.first, _own_first_words(p))


def _own_first_words(p: OwnFirst) -> str:
    return f"starts every file at frame {number(p.first)}"


OWN_FIRST = HabitKind(
    "own_first",
    "Starts at its own first frame",
    OwnFirst,
    _own_first_arrives,
    _own_first_undone,
    _own_first_words,
    1.2,
    on_objects=True,
)


class NoNegative(Parameters):
    """Frames below 0 dropped."""


def _no_negative_arrives(a: Arriving, p: NoNegative, convention: Convention) -> Arriving:
    return a.kept(a.track.frames >= 0)


def _no_negative_undone(s: Outbound, p: NoNegative) -> Outbound:
    return renumbered(s, 0.0, _no_negative_words(p)) if s.intended[0] < 0 else s


def _no_negative_words(p: NoNegative) -> str:
    return "drops frames below 0"


NO_NEGATIVE = HabitKind(
    "no_negative",
    "Drops negative frames",
    NoNegative,
    _no_negative_arrives,
    _no_negative_undone,
    _no_negative_words,
    1.4,
    on_objects=True,
)


class OnlyFirst(Parameters):
    """Only the first frame taken."""


def _only_first_arrives(a: Arriving, p: OnlyFirst, convention: Convention) -> Arriving:
    return a.kept(np.arange(len(a.track)) == 0)


def _only_first_undone(s: Outbound, p: OnlyFirst) -> Outbound:
    moves = max(np.ptp(s.track.position_m, axis=0).max(), np.ptp(s.track.rotation, axis=0).max()) > STILL
    if not moves and not lens_moves(s):
        return s
    return s.but(
        "The package reads only the first frame: key the other frames by hand with the numbers of 'anaxis values'."
    )


ONLY_FIRST = HabitKind(
    "only_first",
    "Reads only the first frame",
    OnlyFirst,
    _only_first_arrives,
    _only_first_undone,
    lambda p: "reads only the first frame",
    1.2,
    on_objects=True,
)


class FirstKeys(Parameters):
    """Only the keys of the first frames taken."""

    count: Positive = parameter("Number of frames", "frames", default=100.0)


def _first_keys_arrives(a: Arriving, p: FirstKeys, convention: Convention) -> Arriving:
    return a.kept(np.arange(len(a.track)) < max(1, int(p.count)))


def _first_keys_undone(s: Outbound, p: FirstKeys) -> Outbound:
    count = int(p.count)
    if len(s.track) <= count:
        return s
    return s.but(
        f"The package reads only the keys of the first {count} frames: deliver the shot in parts of up to {count} frames."
    )


FIRST_KEYS = HabitKind(
    "first_keys",
    "Reads only the first keys",
    FirstKeys,
    _first_keys_arrives,
    _first_keys_undone,
    lambda p: f"reads only the keys of the first {number(p.count)} frames",
    1.4,
    on_objects=True,
)
