"""Retime to another frame rate: the same frames, or the same time."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from anaxis.core.motion import resample
from anaxis.core.parameters import Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.time.rates import nearest_places, parse_rate


class Rate(Parameters):
    rate: str = asked("Frames a second")
    keep: Literal["frames", "time"] = asked("Keep the same")


def apply(work: Work, p: Rate) -> Work:
    rate, track = parse_rate(p.rate), work.done
    made = resample.at_rate(track, rate, p.keep)
    if p.keep == "frames" or rate == track.rate:
        return work.with_track(made)
    at = track.frames[0] + float(track.rate / rate) * np.arange(len(made))
    marks = resample.landmarks_at(track, work.landmarks, at)
    return replace(work, track=made, kept=work.kept[nearest_places(track.frames, at)], landmarks=marks)


KIND = Kind(
    "rate",
    "Retime",
    "track",
    Rate,
    apply,
    lambda p: f"{p.rate} frames/s, same {p.keep}",
    station="time",
    moves_time=True,
)
