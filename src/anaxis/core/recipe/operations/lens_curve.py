"""One channel of the lens changed over a frame range: set, offset, multiplied, smoothed, held."""

from __future__ import annotations

from typing import Literal

from anaxis.core.camera.lens_edits import BY_LABEL, changed_curve
from anaxis.core.recipe.model import Kind, Number, Params, Work, asked
from anaxis.core.recipe.spans import FIRST, LAST, ends, only_over


class LensCurve(Params):
    channel: Literal[
        "focal length",
        "focus distance",
        "stop",
        "offset right",
        "offset up",
        "squeeze",
        "near plane",
        "far plane",
        "film back width",
        "film back height",
    ] = asked("What")
    way: Literal["set to", "times", "plus", "hold outside"] = asked("How")
    value: Number | None = asked("Value", default=None)
    first: Number | None = FIRST
    last: Number | None = LAST


def apply(work: Work, p: LensCurve) -> Work:
    return work.with_track(
        changed_curve(work.done, BY_LABEL[p.channel], p.way, p.value, *ends(p.first, p.last))
    )


def words(p: LensCurve) -> str:
    what = f"{p.channel} {p.way}"
    if p.value is not None and p.way != "hold outside":
        what += f" {p.value:.6g}"
    return what + only_over(p.first, p.last)


KIND = Kind("lens_curve", "Lens curve", "track", LensCurve, apply, words, station="lens")
