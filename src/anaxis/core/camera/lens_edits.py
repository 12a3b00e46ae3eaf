"""Work on a lens's curves, and the film back of a part of the picture."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from anaxis.core.bounds import MAX_NUMBER
from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import Image, offsets_of_part_mm
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

WAYS = ("set to", "times", "plus", "hold outside")
_NEAR_FRAME = 1e-6


def changed_curve(
    track: Track, channel: str, way: str, value: float | None, first: float = -np.inf, last: float = np.inf
) -> Track:
    """One lens channel changed on the frames from ``first`` to ``last``.

    ``way``: "set to" a value, "times" or "plus" it, or "hold outside": the curve stays within the range and
    is held before and after. Raises BadInput for a range without frames and for values no lens has.
    """
    if way not in WAYS:
        raise BadInput(f"'{way}' is not a way to change a curve: choose one of {', '.join(WAYS)}.")
    kind, values = CHANNELS[channel], getattr(track.lens, channel)
    inside = (track.frames >= first) & (track.frames <= last)
    if not inside.any():
        track.between(first, last)  # raises the sentence for it
    if way == "hold outside":
        at = np.flatnonzero(inside)
        index = np.clip(np.arange(len(track)), at[0], at[-1])
        return _with(track, channel, values[index])
    if value is None:
        raise BadInput(f"The {kind.label} needs a number to be {'set to' if way == 'set to' else 'changed by'}.")
    if way != "set to" and np.isnan(values[inside]).any():
        raise BadInput(f"The file does not state the {kind.label}: set it to a value first.")
    made = {"set to": np.full(len(track), value), "times": values * value, "plus": values + value}[way]
    made = np.where(inside, made, values)
    wrong = inside & ~((np.abs(made) < MAX_NUMBER) & ((made > 0) | (not kind.positive)))
    if wrong.any():
        worst = float(made[np.argmax(wrong)])
        raise BadInput(
            f"A {kind.label} of {worst:g} {kind.unit} cannot be"
            + (": it must be above zero." if kind.positive else f": it must be within {MAX_NUMBER:g}.")
        )
    return _with(track, channel, made)


def from_table(track: Track, channel: str, frames: Floats, values: Floats) -> Track:
    """One lens channel set to ``values`` (k,) on ``frames`` (k,) in rising order, drawn straight between them; before the first and
    behind the last it stays as it is. Raises BadInput where no frame of the track lies within them, and for values no lens has."""
    kind, own = CHANNELS[channel], getattr(track.lens, channel)
    wrong = np.flatnonzero(~((np.abs(values) < MAX_NUMBER) & ((values > 0) | (not kind.positive))))
    if len(wrong):
        raise BadInput(
            f"A {kind.label} of {values[wrong[0]]:g} {kind.unit} cannot be (frame {frames[wrong[0]]:g} of the table): it must be above zero."
        )
    inside = (track.frames >= frames[0] - _NEAR_FRAME) & (track.frames <= frames[-1] + _NEAR_FRAME)
    if not inside.any():
        raise BadInput(
            f"The table has frames {frames[0]:g} to {frames[-1]:g}, and the camera {track.frames[0]:g} to {track.frames[-1]:g}: no common frames. "
            "Lay its first row on the camera's first frame, or check the timecode."
        )
    return _with(track, channel, np.where(inside, np.interp(track.frames, frames, values), own))


def _with(track: Track, channel: str, values: Floats) -> Track:
    return replace(track, lens=replace(track.lens, **{channel: values}))


@dataclass(frozen=True)
class Part:
    """A rectangle of a plate in pixels from its upper left corner; parts of it may lie outside (overscan)."""

    x_px: float
    y_px: float
    width_px: float
    height_px: float

    def __post_init__(self) -> None:
        if not (np.isfinite([self.x_px, self.y_px]).all() and max(abs(self.x_px), abs(self.y_px)) <= 1e6):
            raise BadInput("The corner of the part needs two numbers in pixels.")
        self.image(1.0)  # raises for a size that cannot be

    def image(self, pixel_aspect: float) -> Image:
        """The part as an image of its own."""
        if self.width_px != round(self.width_px) or self.height_px != round(self.height_px):
            raise BadInput(
                f"A part of {self.width_px:g} x {self.height_px:g} px is not possible: it must be whole pixels."
            )
        return Image(round(self.width_px), round(self.height_px), pixel_aspect)


def of_part(track: Track, plate: Image, fit: str, part: Part) -> Track:
    """The camera of a part of its picture: the film back and offsets with which the part is the whole image.

    With W x H the plate and used_w x used_h what it uses of the film back (docs/conventions.md, Lens), the part uses
    used_w w / W by used_h h / H around its own middle; every fit then shows the same picture.
    """
    lens, used = track.lens, track.lens.used(plate, fit)
    offsets = offsets_of_part_mm(
        (lens.offset_x_mm, lens.offset_y_mm), used, plate, (part.x_px, part.y_px), (part.width_px, part.height_px)
    )
    return replace(
        track,
        lens=replace(
            lens,
            film_width_mm=used.width_mm * part.width_px / plate.width_px / lens.squeeze,
            film_height_mm=used.height_mm * part.height_px / plate.height_px,
            offset_x_mm=offsets[0],
            offset_y_mm=offsets[1],
        ),
    )
