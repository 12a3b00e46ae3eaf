"""Rates and frame numbers. A rate is a Fraction (24000/1001, not 23.976)."""

from __future__ import annotations

import re
from fractions import Fraction

import numpy as np

from anaxis.core.bounds import MAX_FRAMES, require_rate
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, FloatsLike, Ints

KNOWN_RATES: tuple[Fraction, ...] = tuple(
    Fraction(r)
    for r in (
        "12", "15", "24000/1001", "24", "25", "30000/1001", "30", "48000/1001", "48", "50",
        "60000/1001", "60", "72", "90", "96", "100", "120000/1001", "120", "240",
    )
)  # fmt: skip


_MAX_TEXT = 40


def nearest_rate(frames_per_second: float) -> Fraction:
    """The rate meant by a float: a known one within one part in ten thousand, else the float.

    Packages write 23.976 or 23.98 for 24000/1001; 23.98 lies 1.7 parts in ten thousand away. What comes out may be the
    rate of a clock that no frames run at (ticks); a rate of frames is held against its bounds where it is taken.
    Raises BadInput when the number is not positive and finite.
    """
    if not np.isfinite(frames_per_second) or frames_per_second <= 0:
        raise BadInput(f"The frame rate is {frames_per_second}: it must be a positive number.")
    best = min(KNOWN_RATES, key=lambda r: abs(float(r) - frames_per_second))
    if abs(float(best) / frames_per_second - 1.0) < 2e-4:
        return best
    return Fraction(frames_per_second).limit_denominator(100_000)


def parse_rate(text: str) -> Fraction:
    """A rate from ``"24"``, ``"24/1"``, ``"24000/1001"`` or ``"23.976"``; raises BadInput."""
    if len(text) > _MAX_TEXT:
        raise BadInput(f"'{text[:20]}...' is not a frame rate: write 24, 25 or 24000/1001.", "out_of_bounds")
    try:
        rate = Fraction(text.strip()) if re.fullmatch(r"\s*\d+(/\d+)?\s*", text) else nearest_rate(float(text))
    except (ValueError, ZeroDivisionError) as error:
        raise BadInput(f"'{text}' is not a frame rate: write 24, 25 or 24000/1001.") from error
    if rate <= 0:
        raise BadInput(f"'{text}' is not a frame rate: it must be above zero.")
    require_rate(rate)
    return rate


def kept_rate(text: str) -> Fraction:
    """A rate as :func:`rate_text` wrote it: what was kept once is read, whatever bounds were drawn since."""
    return Fraction(text)


def rate_text(rate: Fraction) -> str:
    """``"24/1"``: the form the command line and files use."""
    return f"{rate.numerator}/{rate.denominator}"


def rate_label(rate: Fraction) -> str:
    """``"24"`` or ``"23.976"``: the form people read."""
    return str(rate.numerator) if rate.denominator == 1 else f"{float(rate):.3f}"


def seconds_of(frames: FloatsLike, rate: Fraction) -> Floats:
    """Seconds of frame numbers: frame / rate, so frame 0 stands at 0 s."""
    return np.asarray(frames, dtype=np.float64) * rate.denominator / rate.numerator


def nearest_places(frames: Floats, at: Floats) -> Ints:
    """The place (m,) among rising ``frames`` (n,) that is nearest to each of ``at`` (m,); half way, the later one."""
    right = np.clip(np.searchsorted(frames, at), 0, len(frames) - 1)
    left = np.maximum(right - 1, 0)
    return np.where(np.abs(frames[left] - at) < np.abs(frames[right] - at), left, right)


def frame_range(first: float, last: float, what: str) -> Floats:
    """Every whole frame number from ``first`` to ``last``, at least one; shape (n,).

    Raises BadInput over MAX_FRAMES, naming ``what``.
    """
    a, b = float(np.ceil(first - 1e-6)), float(np.floor(last + 1e-6))
    if b < a:
        a = b = float(np.round(first))
    if b - a + 1 > MAX_FRAMES:
        raise BadInput(
            f"{what} runs over {b - a + 1:.0f} frames ({a:.0f} to {b:.0f}); at most {MAX_FRAMES} "
            "are possible: export only the range of the shot."
        )
    return np.arange(a, b + 1) + 0.0  # no minus before frame 0


def plain_frame(value: float) -> int | float:
    """A frame number as JSON and tables write it: whole where it is whole, without the last digits of a double else."""
    return int(value) if float(value).is_integer() else float(f"{value:.12g}")


def format_frame(frame: float) -> str:
    """A frame number as people write it: no decimals where there are none."""
    return f"{frame:.0f}" if float(frame).is_integer() else f"{frame:.10g}"
