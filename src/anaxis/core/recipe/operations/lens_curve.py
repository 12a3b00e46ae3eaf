"""One channel of the lens changed over a frame range: set, multiplied, offset, held outside."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import field_validator

from anaxis.core.camera.channels import BY_LABEL
from anaxis.core.camera.lens_edits import changed_curve
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.spans import FIRST, LAST, ends, only_over


class LensCurve(Parameters):
    channel: Literal[
        "focal length",
        "focus distance",
        "stop",
        "offset right",
        "offset up",
        "squeeze",
        "near clip",
        "far clip",
        "film back width",
        "film back height",
    ] = asked("What")
    way: Literal["set to", "times", "plus", "hold outside"] = asked("How")
    value: Number | None = asked("Value", default=None)
    first: Number | None = FIRST
    last: Number | None = LAST

    @field_validator("channel", mode="before")
    @classmethod
    def _as_it_was_called(cls, channel: Any) -> Any:
        """Recipes kept before the clips had the trade's name."""
        return channel.replace(" plane", " clip") if isinstance(channel, str) else channel


def apply(work: Work, p: LensCurve) -> Work:
    return work.with_track(changed_curve(work.done, BY_LABEL[p.channel], p.way, p.value, *ends(p.first, p.last)))


def words(p: LensCurve) -> str:
    what = f"{p.channel} {p.way}"
    if p.value is not None and p.way != "hold outside":
        what += f" {p.value:.6g}"
    return what + only_over(p.first, p.last)


KIND = Kind("lens_curve", "Lens curve", "track", LensCurve, apply, words, station="lens")
