"""The file's time played at a rate of the package's own."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from pydantic import field_validator

from anaxis.core.parameters import Parameters, asked
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import parse_rate, rate_label
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class OwnRate(Parameters):
    rate: str = asked("Frames a second", default="30")

    @field_validator("rate", mode="before")
    @classmethod
    def _a_rate(cls, rate: Any) -> str:
        parse_rate(str(rate))
        return str(rate)


def arrive(a: Arriving, p: OwnRate, convention: Convention) -> Arriving:
    rate = parse_rate(p.rate)
    return replace(a, track=replace(a.track, frames=a.track.frames * float(rate / a.track.rate), rate=rate))


def undo(s: Outbound, p: OwnRate) -> Outbound:
    rate = parse_rate(p.rate)
    return s if rate == s.track.rate else replace(s, track=replace(s.track, rate=rate))


def words(p: OwnRate) -> str:
    return f"plays the file's time at {rate_label(parse_rate(p.rate))} frames a second instead of the file's own"


HABIT = HabitKind("own_rate", "Takes its own rate", OwnRate, arrive, undo, words, 1.2)
