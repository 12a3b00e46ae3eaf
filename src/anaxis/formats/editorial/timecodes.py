"""Frame numbers as timecode, drop-frame and non-drop, by the library for it. Frame 0 is 00:00:00:00."""

from __future__ import annotations

from fractions import Fraction

from timecode import Timecode

from anaxis.core.errors import BadInput
from anaxis.core.time.rates import rate_label

# Rates of 30000/1001 and its multiples drop numbers, two a minute for every 30 frames a second.
_DROPPING = {30: "29.97", 60: "59.94", 120: "119.88"}
_DAY_S = 86_400


def counted(rate: Fraction) -> int | None:
    """How many frames a timecode counts to a second at this rate; None where there is no timecode for it."""
    whole = round(rate)
    return whole if whole >= 1 and abs(float(rate) / whole - 1) < 0.0011 else None


def can_drop(rate: Fraction) -> bool:
    return rate in (Fraction(n * 1000, 1001) for n in _DROPPING)


def timecode_of(frame: float, rate: Fraction, drop: bool = False) -> str | None:
    """``"00:00:40:00"`` or, dropping, ``"00:00:40;00"``; None where there is none: a negative or broken frame, an odd rate."""
    count = counted(rate)
    if count is None or frame < 0 or not float(frame).is_integer() or (drop and not can_drop(rate)):
        return None
    number = int(frame) % (_DAY_S * count)
    return str(Timecode(_DROPPING[count] if drop else str(count), frames=number + 1))


def frame_of_timecode(text: str, rate: Fraction) -> int:
    """The frame number of a timecode; a semicolon says that it drops. Raises BadInput."""
    count, drop = counted(rate), ";" in text
    if count is None or (drop and not can_drop(rate)):
        kind = "drop-frame timecode" if drop else "timecode"
        raise BadInput(f"There is no {kind} at {rate_label(rate)} frames a second: type a frame number.")
    try:
        parts = [int(p) for p in text.replace(";", ":").split(":")]
        if len(parts) != 4 or not (
            0 <= parts[0] < 24 and all(0 <= p < 60 for p in parts[1:3]) and 0 <= parts[3] < count
        ):
            raise ValueError
        spelled = ":".join(f"{p:02d}" for p in parts[:3]) + (";" if drop else ":") + f"{parts[3]:02d}"
        made = Timecode(_DROPPING[count] if drop else str(count), spelled)
    except (ValueError, IndexError) as error:
        raise BadInput(
            f"'{text}' is not a timecode at {rate_label(rate)} frames a second: write 01:00:00:00."
        ) from error
    if drop and str(made) != spelled:
        raise BadInput(f"{text} does not exist in drop-frame timecode: use the next one.")
    return int(made.frames) - 1
