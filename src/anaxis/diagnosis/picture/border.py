"""The part of a screenshot that is the camera's picture: without black bars, gates and the borders of a window."""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.typing import Bytes, Floats

# A bar is of one colour: no pixel of a row differs by more grey levels.
_EVEN, _SAME = 10, 12
_MOST_SHARE, _LEAST_AREA = 0.47, 0.2
_ASPECT = 0.012
# A line of a gate or window stands out of its surroundings by so many times the usual difference between rows.
_STANDS_OUT, _MOST_LINES = 6.0, 14


class Area(NamedTuple):
    """A part of a picture in pixels from its upper left; ``why`` says how it was found."""

    x: int
    y: int
    width: int
    height: int
    why: str = ""

    def within(self, picture: Bytes) -> Bytes:
        return picture[self.y : self.y + self.height, self.x : self.x + self.width]


def whole(picture: Bytes) -> Area:
    return Area(0, 0, picture.shape[1], picture.shape[0], "the whole picture")


def area_of(picture: Bytes, aspect: float) -> Area:
    """The part of a picture (h, w, 3) that a camera whose image is ``aspect`` times as wide as high is likely to have made.

    A picture of that aspect is the camera's as it is: an even sky is no bar. Else bars of one colour are cut where what is left
    has the aspect; else a rectangle of it whose sides are lines of the picture is looked for. The whole picture where neither is
    found.
    """
    everything = whole(picture)
    if _near(everything, aspect):
        return everything
    grey: Bytes = np.asarray(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), dtype=np.uint8)
    top, bottom, left, right = _bars(grey)
    height, width = grey.shape
    cut = Area(left, top, width - left - right, height - top - bottom)
    if _near(cut, aspect):
        return cut._replace(why=_bar_words(top, bottom, left, right))
    # The picture may be as dark as its bars: then they end where the aspect says.
    high, wide = round(width / aspect), round(height * aspect)
    above, beside = (height - high) // 2, (width - wide) // 2
    if 0 < above <= min(top, bottom) + 2:
        return Area(0, above, width, high, _bar_words(above, height - high - above, 0, 0))
    if 0 < beside <= min(left, right) + 2:
        return Area(beside, 0, wide, height, _bar_words(0, 0, beside, width - wide - beside))
    return _gate(grey, everything, aspect) or everything


def asked_area(asked: str | None, picture: Bytes, aspect: float) -> Area:
    """The part that a person names, as ``"x,y,width,height"`` or "whole"; :func:`area_of` for None. Raises BadInput."""
    if asked is None:
        return area_of(picture, aspect)
    return whole(picture) if asked == "whole" else parse_area(asked, picture)


def parse_area(text: str, picture: Bytes) -> Area:
    """``"x,y,width,height"`` as a person writes it. Raises BadInput."""
    parts = text.replace(" ", "").split(",")
    height, width = picture.shape[:2]
    try:
        x, y, w, h = (round(float(p)) for p in parts)
    except (ValueError, OverflowError):
        raise BadInput(
            f"'{text[:40]}' is not an area: write x,y,width,height in pixels, for example 0,140,1920,800."
        ) from None
    if not (x >= 0 and y >= 0 and w >= 16 and h >= 16 and x + w <= width and y + h <= height):
        raise BadInput(f"The area {text[:40]} does not lie within the picture of {width} x {height} px.")
    return Area(x, y, w, h, "as typed")


def _near(area: Area, aspect: float) -> bool:
    return abs(area.width / area.height / aspect - 1) < _ASPECT


def _bars(grey: Bytes) -> tuple[int, int, int, int]:
    """How wide the bars above, below, left and right are."""
    top, bottom = _bar(grey), _bar(grey[::-1])
    middle = grey[top : grey.shape[0] - bottom]
    return top, bottom, _bar(middle.T), _bar(middle.T[::-1])


def _bar_words(top: int, bottom: int, left: int, right: int) -> str:
    sides = ((top, "above"), (bottom, "below"), (left, "left"), (right, "right"))
    return f"without bars of {', '.join(f'{n} px {where}' for n, where in sides if n)}"


def _bar(lines: Bytes) -> int:
    """How many lines from the first on are of one colour."""
    most = int(len(lines) * _MOST_SHARE)
    part = lines[:most].astype(np.int16)
    even = (part.max(axis=1) - part.min(axis=1)) <= _EVEN
    same = np.abs(part.mean(axis=1) - part[0].mean()) <= _SAME
    bar = even & same
    count = int(np.argmin(bar)) if not bar.all() else 0  # all of one colour up to the middle: no picture to find
    return count if count > 1 else 0


def _gate(grey: Bytes, cut: Area, aspect: float) -> Area | None:
    """The largest rectangle of an aspect whose four sides are straight lines across the picture."""
    part = cut.within(grey).astype(np.float64)
    rows, columns = _lines(part), _lines(part.T)
    best, found = 0.0, None
    for top, a in rows:
        for bottom, b in rows:
            height = bottom - top
            if height * 2 < part.shape[0] * 0.5:
                continue
            for left, c in columns:
                right = left + height * aspect
                near = [(x, d) for x, d in columns if abs(x - right) <= max(2.0, 0.006 * height * aspect)]
                for x, d in near:
                    score = min(a, b, c, d)
                    if score > best and (x - left) * height > _LEAST_AREA * part.size:
                        best = score
                        found = Area(cut.x + left, cut.y + top, x - left, height, "inside a frame of straight lines")
    return found


def _lines(part: Floats) -> list[tuple[int, float]]:
    """Where rows end at a straight line across, with how much it stands out; the sides of the picture are lines too."""
    step = np.abs(np.diff(part, axis=0))
    # A line runs all across: most of its pixels differ from those beside them.
    strength = np.quantile(step, 0.3, axis=1) if part.shape[1] > 3 else step.mean(axis=1)
    usual = float(np.median(strength)) + 0.5
    at = np.argsort(-strength)[:_MOST_LINES]
    found = [(int(i) + 1, float(strength[i])) for i in at if strength[i] > _STANDS_OUT * usual]
    ends = max((s for _, s in found), default=0.0)
    return [*found, (0, ends), (len(part), ends)] if found else [(0, 1.0), (len(part), 1.0)]
