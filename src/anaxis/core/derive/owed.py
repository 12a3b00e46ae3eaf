"""The range a joined camera is to be rendered over, held against one that somebody typed elsewhere."""

from __future__ import annotations

from typing import NamedTuple

from anaxis.core.time.rates import format_frame


class RangeCheck(NamedTuple):
    """``kind``: equal, off_by_one, digit_swapped, shifted, too_short, too_long or other; ``said`` in a sentence."""

    kind: str
    said: str

    @property
    def equal(self) -> bool:
        return self.kind == "equal"


def check_range(first: int, last: int, typed_first: int, typed_last: int) -> RangeCheck:
    """Hold a typed range against the one owed; both ends are counted in."""
    owed, typed = f"{first}-{last}", f"{typed_first}-{typed_last}"
    count, there = last - first + 1, typed_last - typed_first + 1
    said = f"{typed} was typed; expected is {owed} ({count} frames)"
    if (first, last) == (typed_first, typed_last):
        return RangeCheck("equal", f"{typed} is the expected range, {count} frames.")
    if typed_last < typed_first:
        return RangeCheck("other", f"{said}: the typed range runs backwards; type the smaller number first.")
    swapped = [_swapped(a, b) for a, b in ((first, typed_first), (last, typed_last))]
    off = [b - a for a, b in ((first, typed_first), (last, typed_last))]
    if any(swapped) and all(s or not o for s, o in zip(swapped, off, strict=True)):
        which = " and ".join(
            f"{b} for {a}" for a, b, s in ((first, typed_first, swapped[0]), (last, typed_last, swapped[1])) if s
        )
        return RangeCheck("digit_swapped", f"{said}: two digits are swapped, {which}; type {owed}.")
    if off[0] == off[1]:
        one = (
            "shifted by one frame, as when one list counts from 0 and the other from 1"
            if abs(off[0]) == 1
            else f"shifted by {off[0]:+d} frames"
        )
        kind = "off_by_one" if abs(off[0]) == 1 else "shifted"
        return RangeCheck(kind, f"{said}: same length, but {one}; type {owed}.")
    if abs(there - count) == 1 and max(abs(o) for o in off) == 1 and 0 in off:
        why = "the last frame is part of the range" if off[1] else "the first frame is part of the range"
        return RangeCheck(
            "off_by_one", f"{said}: one frame too {'short' if there < count else 'long'}; {why}, type {owed}."
        )
    kind = "too_short" if there < count else "too_long" if there > count else "other"
    parts = []
    if typed_first > first:
        parts.append(f"{typed_first - first} frames are missing at the beginning")
    if typed_first < first:
        parts.append(f"{first - typed_first} frames too many at the beginning")
    if typed_last < last:
        parts.append(f"{last - typed_last} frames are missing at the end")
    if typed_last > last:
        parts.append(f"{typed_last - last} frames too many at the end")
    return RangeCheck(kind, f"{said}: {' and '.join(parts)}; type {owed}.")


def _swapped(owed: int, typed: int) -> bool:
    """Whether one is the other with two neighbouring digits swapped, which no sum of frames explains."""
    a, b = format_frame(owed), format_frame(typed)
    if len(a) != len(b) or a == b:
        return False
    odd = [i for i in range(len(a)) if a[i] != b[i]]
    return len(odd) == 2 and odd[1] == odd[0] + 1 and a[odd[0]] == b[odd[1]] and a[odd[1]] == b[odd[0]]
