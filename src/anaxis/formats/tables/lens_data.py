"""Lens data from a table: focal length, focus distance and stop by frame number or timecode, in units that are said or asked for."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Literal, NamedTuple

import numpy as np

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats
from anaxis.formats.editorial.timecodes import frame_of_timecode
from anaxis.formats.tables.read import cells_of, is_number

Align = Literal["by number", "first row on first frame"]
# Factors to millimetres and to metres.
UNITS: dict[str, dict[str, float]] = {
    "focal_mm": {"mm": 1.0, "cm": 10.0, "inch": 25.4},
    "focus_m": {"m": 1.0, "cm": 0.01, "mm": 0.001, "ft": 0.3048, "inch": 0.0254},
}
_UNIT_WORDS = {"in": "inch", "inches": "inch", "feet": "ft", "foot": "ft", "metres": "m", "meters": "m", "millimetres": "mm", "millimeters": "mm"}  # fmt: skip
_HEADINGS = {
    "frame": r"frames?|frm|f|frame ?(no|nr|number)",
    "timecode": r"time ?code|tc|time ?code ?in",
    "focal_mm": r"(lens )?(focal|focal ?length)|lens|zoom ?length",
    "focus_m": r"focus|focus ?distance|focal ?distance|subject ?distance",
    "fstop": r"(f|t) ?(stop|number)|stop|iris|aperture",
}


class LensData(NamedTuple):
    """Values of the lens's channels (k,) by name, on frames (k,) in rising order, and sentences about them."""

    frames: Floats
    values: dict[str, Floats]
    notes: tuple[str, ...]


class LensTableOptions(NamedTuple):
    """What a table does not say: units by channel, whether its first row lies on the camera's first frame, and the timecode of
    the camera's frame 0 where it counts in timecode ("" for 00:00:00:00)."""

    units: dict[str, str]
    align: Align = "by number"
    timecode_of_first: str = ""


def read_lens_data(name: str, text: str, rate: Fraction, first_frame: float, options: LensTableOptions) -> LensData:
    """A table's lens data on the frames of a camera that begins at ``first_frame``.

    Raises BadInput that names the column or row at fault; its code is "unit_missing" where a unit must be chosen.
    """
    headings, rows, _ = cells_of(text, name, least=2)
    if headings is None:
        raise BadInput(f"{name} has no headings: write a first row such as 'frame, focal length mm, focus m, stop'.")
    found: dict[str, tuple[int, str, str]] = {}
    for i, heading in enumerate(headings):
        column = _column_of(heading)
        if column is not None and column[0] not in found:
            found[column[0]] = (i, column[1], heading.strip())
    channels = [c for c in CHANNELS if c in found]
    if not channels:
        raise BadInput(
            f"{name} has no column of focal length, focus or stop; its columns are {listed([h.strip() for h in headings])}."
        )
    frames = _frames(name, rows, found, rate, first_frame, options)
    values, notes = {}, []
    for channel in channels:
        at, unit, heading = found[channel]
        numbers = _numbers(name, rows, at, heading)
        if channel in UNITS:
            unit = unit or options.units.get(channel, "")
            if unit not in UNITS[channel]:
                raise BadInput(
                    f"{name} does not say the unit of '{heading}': choose one of {', '.join(UNITS[channel])}.",
                    "unit_missing",
                )
            numbers = numbers * UNITS[channel][unit]
        elif heading.lower().lstrip().startswith("t"):
            notes.append(
                f"'{heading}' is taken as the stop: a T-stop says how much light comes through, and the depth of field differs a little."
            )
        values[channel] = numbers
    order = np.argsort(frames, kind="stable")
    frames = frames[order]
    twice = np.flatnonzero(np.diff(frames) == 0)
    if len(twice):
        raise BadInput(f"{name} has two rows for frame {format_frame(frames[twice[0]])}: leave one of them out.")
    return LensData(frames, {k: v[order] for k, v in values.items()}, tuple(notes))


def _column_of(heading: str) -> tuple[str, str] | None:
    """What a heading names, and the unit that it says; None for anything else."""
    spaced = re.sub(r"([a-z])([A-Z])", r"\1 \2", heading).lower()
    words = re.split(r"[^a-z0-9]+", spaced.strip("() []"))
    words = [w for w in words if w]
    last = _UNIT_WORDS.get(words[-1], words[-1]) if words else ""
    for text, unit in ((" ".join(words), ""), (" ".join(words[:-1]), last)):
        for name, pattern in _HEADINGS.items():
            if text and re.fullmatch(pattern, text):
                return name, unit if unit in UNITS.get(name, {}) else ""
    return None


def _frames(
    name: str, rows: list[list[str]], found: dict[str, tuple[int, str, str]], rate: Fraction, first_frame: float, options: LensTableOptions
) -> Floats:  # fmt: skip
    if "timecode" in found:
        at = found["timecode"][0]
        begins = frame_of_timecode(options.timecode_of_first, rate) if options.timecode_of_first else 0.0
        offset = first_frame - begins if options.timecode_of_first else 0.0
        frames = (
            np.array([_timecode(name, i, row[at], rate) for i, row in enumerate(rows, 2)], dtype=np.float64) + offset
        )
    elif "frame" in found:
        frames = _numbers(name, rows, found["frame"][0], found["frame"][2])
    elif options.align == "first row on first frame":
        frames = np.arange(len(rows), dtype=np.float64)
    else:
        raise BadInput(
            f"{name} has no column of frames or timecodes: choose to lay its first row on the camera's first frame."
        )
    return frames - frames.min() + first_frame if options.align == "first row on first frame" else frames


def _timecode(name: str, number: int, cell: str, rate: Fraction) -> int:
    try:
        return frame_of_timecode(cell.strip(), rate)
    except BadInput as error:
        raise BadInput(f"{name}, row {number}: {error.sentence}") from error


def _numbers(name: str, rows: list[list[str]], at: int, heading: str) -> Floats:
    out = []
    for number, row in enumerate(rows, 2):
        cell = row[at].strip() if at < len(row) else ""
        if not is_number(cell) or not np.isfinite(float(cell)):
            raise BadInput(
                f"{name}, row {number}: '{cell[:40]}' is not a number for '{heading}'; correct the cell, or leave the row out."
            )
        out.append(float(cell))
    return np.array(out, dtype=np.float64)
