"""Which frame lies at 0 s in a file that counts seconds, and why."""

from __future__ import annotations

from fractions import Fraction

from anaxis.core.time.rates import format_frame, seconds_of
from anaxis.core.typing import Floats
from anaxis.formats.format import Format

# Behind it single precision tells times apart by less than a thousandth of a frame at the usual rates no longer.
SINGLE_PRECISION_S = 256.0


def zero_frame_of(of: Format, frames: Floats, rate: Fraction, from_zero: bool) -> tuple[float, str]:
    """The frame at 0 s in a file of a format, and a sentence where that is not frame 0.

    ``from_zero`` says that the receiver wants its clips to begin at 0 s. Formats that have no time before 0, or hold
    times in single precision, begin with the first frame where frame numbers would not fit.
    """
    if not of.in_seconds:
        return 0.0, ""
    label, first = of.unversioned, float(frames[0])
    last_s = float(seconds_of(frames[-1:], rate)[0])
    if from_zero and first != 0:
        why = "because the package needs clips that begin at 0 s"
    elif first < 0:
        why = f"because {label} has no time before 0"
    elif of.single_precision and last_s >= SINGLE_PRECISION_S:
        why = f"because {last_s:.0f} s is too late for single-precision times"
    else:
        return 0.0, ""
    said = format_frame(first)
    return (first, f"Frame {said} is at 0 s in the {label} file, {why}: start the clip at frame {said} there.")
