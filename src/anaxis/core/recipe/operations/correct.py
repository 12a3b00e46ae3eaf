"""What the file leaves open, or says wrong: up axis, unit, frame rate."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene.nodes import corrected
from anaxis.core.time.rates import parse_rate

UpAxis = Literal["X", "Y", "Z"]


class Correct(Parameters):
    up_axis: UpAxis | None = asked("Up axis", default=None)
    metres_per_unit: Number | None = asked("Metres per unit", "m", default=None)
    rate: str | None = asked("Frames a second", default=None)


def apply(work: Work, p: Correct) -> Work:
    rate = parse_rate(p.rate) if p.rate is not None else None
    return replace(work, scene=corrected(work.scene, p.up_axis, p.metres_per_unit, rate))


def words(p: Correct) -> str:
    parts = [
        f"{p.up_axis} up" if p.up_axis else "",
        f"1 unit = {p.metres_per_unit:g} m" if p.metres_per_unit else "",
        f"{p.rate} frames/s" if p.rate else "",
    ]
    return ", ".join(x for x in parts if x)


KIND = Kind("correct", "Set axes, unit, frame rate", "tree", Correct, apply, words, for_file=True)
