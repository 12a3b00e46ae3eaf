"""Guides that lie over a camera's picture: safe areas, an aspect mask, thirds, a field chart, the film back's edge.

They are shapes in shares of the picture, from its upper left corner, so that pages, stills and films draw the same ones.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal, NamedTuple

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput

# Shares of the picture's sides, and the recommendation that says so.
SAFE_AREAS = {
    "action": (0.93, "EBU R 95, action safe"),
    "graphics": (0.90, "EBU R 95, graphics safe"),
    "action-2046": (0.93, "SMPTE ST 2046-1, action safe"),
    "title": (0.90, "SMPTE ST 2046-1, title safe"),
}
GUIDES = {
    "centre": "centre cross", "thirds": "thirds", **{key: label for key, (_, label) in SAFE_AREAS.items()}, "fields": "field chart, 12 fields",
    "film-back": "film back edge", "frame": "image frame",
}  # fmt: skip
MASKS = {"1.85": 1.85, "2.39": 2.39, "4:3": 4 / 3, "9:16": 9 / 16}
_FIELDS = 12


def aspect_of(text: str, written: str = "2.39 or 16:9") -> float:
    """An aspect as it is typed, 2.39 or 16:9; ``written`` says in its error what may be written. Raises BadInput."""
    width, _, height = text.strip().partition(":")
    try:
        return float(width) / float(height or 1)
    except (ValueError, ZeroDivisionError):
        raise BadInput(f"'{text[:40]}' is not an aspect: write {written}.") from None


@dataclass(frozen=True)
class Guides:
    """Which guides are shown, of :data:`GUIDES`, and the aspect that a mask leaves; None for no mask. Raises BadInput."""

    names: tuple[str, ...] = ()
    mask: float | None = None

    def __post_init__(self) -> None:
        unknown = next((g for g in self.names if g not in GUIDES), None)
        if unknown is not None:
            raise BadInput(f"'{unknown[:40]}' is not a guide: choose from {', '.join(GUIDES)}.")
        if self.mask is not None and not 0.1 <= self.mask <= 10:
            raise BadInput(f"An aspect of {self.mask:g} cannot be a mask: write it as 2.39 or 16:9, from 0.1 to 10.")


class GuideShape(NamedTuple):
    """A line, a rectangle, the part that a mask leaves, or words at a place; from (x0, y0) to (x1, y1) in shares of the picture."""

    kind: Literal["line", "rect", "mask", "text"]
    x0: float
    y0: float
    x1: float
    y1: float
    label: str = ""


def shapes_of(
    guides: Guides, image: Image, track: Track | None = None, fit: str = "width", at: int = 0
) -> list[GuideShape]:
    """The shapes of guides over a picture; the film back's edge is that of a track's frame at a place, under a fit."""
    aspect = image.width_px * image.pixel_aspect / image.height_px
    out: list[GuideShape] = []
    if guides.mask is not None:
        wide, high = min(1.0, guides.mask / aspect), min(1.0, aspect / guides.mask)
        out.append(_rect("mask", wide, high, f"{guides.mask:.3g}"))
    for name in guides.names:
        if name in SAFE_AREAS:
            share, label = SAFE_AREAS[name]
            out.append(_rect("rect", share, share, label))
        elif name == "frame":
            out.append(_rect("rect", 1.0, 1.0))
        elif name == "centre":
            arm = 0.04
            out += [
                GuideShape("line", 0.5 - arm / aspect, 0.5, 0.5 + arm / aspect, 0.5),
                GuideShape("line", 0.5, 0.5 - arm, 0.5, 0.5 + arm),
            ]
        elif name == "thirds":
            for k in (1 / 3, 2 / 3):
                out += [GuideShape("line", k, 0.0, k, 1.0), GuideShape("line", 0.0, k, 1.0, k)]
        elif name == "fields":
            out += _field_chart()
        elif name == "film-back" and track is not None:
            out.append(_film_back(track, image, fit, at))
    return out


def _rect(kind: Literal["rect", "mask"], wide: float, high: float, label: str = "") -> GuideShape:
    return GuideShape(kind, (1 - wide) / 2, (1 - high) / 2, (1 + wide) / 2, (1 + high) / 2, label)


def _field_chart() -> list[GuideShape]:
    """Fields one within the other, numbered from the middle outward, and the lines across through the middle."""
    out = [GuideShape("line", 0.5, 0.0, 0.5, 1.0), GuideShape("line", 0.0, 0.5, 1.0, 0.5)]
    for k in range(1, _FIELDS + 1):
        out.append(_rect("rect", k / _FIELDS, k / _FIELDS))
        inside = 0.5 + (k - 0.6) / _FIELDS / 2
        out.append(GuideShape("text", inside, 0.5, inside, 0.5, str(k)))
    return out


def _film_back(track: Track, image: Image, fit: str, at: int) -> GuideShape:
    """The film back about the picture, which may show a part of it or reach beyond it (docs/conventions.md, Lens)."""
    lens = track.lens
    used = lens.used(image, fit)
    wide, high = float(used.width_mm[at]), float(used.height_mm[at])
    half_x, half_y = float(lens.squeeze[at] * lens.film_width_mm[at]) / 2, float(lens.film_height_mm[at]) / 2
    x, y = float(lens.offset_x_mm[at]), float(lens.offset_y_mm[at])
    label = f"film back {lens.film_width_mm[at]:.2f} x {lens.film_height_mm[at]:.2f} mm"
    return GuideShape(
        "rect", 0.5 + (-half_x - x) / wide, 0.5 - (half_y - y) / high, 0.5 + (half_x - x) / wide, 0.5 - (-half_y - y) / high, label
    )  # fmt: skip


def mask_of(text: str) -> float | None:
    """A mask as it is chosen or typed; None for an empty text or "none". Raises BadInput."""
    typed = re.sub(r"\s", "", text)
    return None if typed in ("", "none") else MASKS.get(typed) or aspect_of(typed)
