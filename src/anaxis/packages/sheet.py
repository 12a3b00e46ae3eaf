"""The typed-in sheet: what to type into a package for one camera, in its own words, units and signs."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.outgoing import Outgoing
from anaxis.core.time.rates import format_frame, rate_label
from anaxis.core.typing import Floats, Ints
from anaxis.packages.model import Profile

_SHOWN = {
    "focal": ("Focal length", "mm"),
    "hfov": ("Horizontal field of view", "°"),
    "vfov": ("Vertical field of view", "°"),
    "zoom": ("Zoom", "px"),
}


class Entry(NamedTuple):
    """One field to fill in: the values at the first, middle and last frame, one where it does not change."""

    label: str
    values: tuple[str, ...]
    unit: str
    note: str = ""

    @property
    def animated(self) -> bool:
        return len(self.values) > 1


class Sheet(NamedTuple):
    """``frames`` are those of the entries that change, in the receiver's numbering."""

    frames: tuple[str, ...]
    entries: tuple[Entry, ...]


def first_middle_last(count: int) -> Ints:
    """The places of the first, the middle and the last of ``count`` samples, each once."""
    return np.unique([0, (count - 1) // 2, count - 1])


def decimals(value: float, digits: int = 4) -> str:
    """A number with fixed decimals, and no minus before a zero."""
    text = f"{value:.{digits}f}"
    return text.lstrip("-") if float(text) == 0 else text


def sheet_of(outgoing: Outgoing, profile: Profile) -> Sheet:
    """What to type, field by field, for a camera that goes to a package."""
    track, image, rule = outgoing.track, outgoing.image, profile.lens
    lens, numbers = track.lens, outgoing.numbers()
    at = first_middle_last(len(track))

    def entry(label: str, values: Floats, unit: str, digits: int = 4, note: str = "") -> Entry:
        return Entry(label, _texts(values[at], digits), unit, note)

    shown = {"focal": numbers.focal_mm, "hfov": numbers.hfov_deg, "vfov": numbers.vfov_deg, "zoom": numbers.zoom_px}
    label, unit = _SHOWN[rule.shown]
    entries = [
        Entry("Image size", (f"{image.width_px} x {image.height_px}",), "px"),
        Entry("Pixel aspect", (f"{image.pixel_aspect:g}",), ""),
        Entry(
            "Rate, frames/s",
            (rate_label(track.rate),),
            "",
            f"exactly {track.rate}" if track.rate.denominator > 1 else "",
        ),
        Entry("First and last frame", (f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])}",), ""),
        Entry("How the image fits the film back", (rule.fit,), ""),
        entry(label, shown[rule.shown], unit),
        entry("Film back width", lens.film_width_mm * profile.film_scale, rule.film_unit),
        entry("Film back height", lens.film_height_mm * profile.film_scale, rule.film_unit),
    ]
    entries += [Entry(n, t, u, w) for n, t, u, w in _offsets(outgoing, profile, at)]
    if (lens.squeeze != 1).any():
        entries.append(entry("Squeeze", lens.squeeze, "x"))
    per_unit = profile.metres_per_unit
    for label, values in (("Focus distance", lens.focus_m), ("Near clip", lens.near_m), ("Far clip", lens.far_m)):
        if np.isfinite(values).all():
            entries.append(entry(label, values / per_unit, profile.unit_name))
    if np.isfinite(lens.fstop).all():
        entries.append(entry("Stop", lens.fstop, "f", 2))
    return Sheet(tuple(format_frame(f) for f in track.frames[at].tolist()), tuple(entries))


def package_offsets(track: Track, profile: Profile) -> tuple[Floats, Floats, str]:
    """The offsets across and up in a package's own unit and sign, (n,) each, and that unit."""
    lens, rule = track.lens, profile.lens
    wide = lens.film_width_mm * lens.squeeze
    scales: dict[str, tuple[Floats, Floats, str]] = {
        "film_unit": (np.full(len(wide), profile.film_scale), np.full(len(wide), profile.film_scale), rule.film_unit),
        "width_share": (1 / wide, 1 / wide, "of the width"),
        "side_share": (1 / wide, 1 / lens.film_height_mm, "of its side"),
    }
    across, up, unit = scales[rule.offset_unit]
    return lens.offset_x_mm * across * rule.offset_signs[0], lens.offset_y_mm * up * rule.offset_signs[1], unit


def _offsets(outgoing: Outgoing, profile: Profile, at: Ints) -> list[tuple[str, tuple[str, ...], str, str]]:
    """Offsets in the package's unit and sign."""
    across, up, unit = package_offsets(outgoing.track, profile)
    ways, signs = (("right", "left"), ("up", "down")), profile.lens.offset_signs
    return [
        (
            f"Offset {'xy'[i]}",
            _texts(values[at], 5),
            unit,
            f"positive moves the window {ways[i][0 if signs[i] > 0 else 1]}",
        )
        for i, values in enumerate((across, up))
    ]


def _texts(values: Floats, digits: int) -> tuple[str, ...]:
    texts = tuple(decimals(v, digits) for v in values.tolist())
    return texts[:1] if len(set(texts)) == 1 else texts
