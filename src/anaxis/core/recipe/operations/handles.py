"""Frames added at both ends."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from anaxis.core.motion.resample import with_handles
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class Handles(Parameters):
    head: Number = asked("Before", "frames", default=0.0)
    tail: Number = asked("After", "frames", default=0.0)
    way: Literal["hold", "extend"] = asked("How")


def apply(work: Work, p: Handles) -> Work:
    head, tail = int(p.head), int(p.tail)
    made = with_handles(work.done, head, tail, p.way)
    index = np.clip(np.arange(-head, len(work.done) + tail), 0, len(work.done) - 1)
    return replace(work, track=made, kept=work.kept[index], landmarks=work.landmarks.at_frames(index))


KIND = Kind(
    "handles",
    "Handles",
    "track",
    Handles,
    apply,
    lambda p: f"{p.head:g} before, {p.tail:g} after, {p.way}",
    station="time",
    moves_time=True,
)
