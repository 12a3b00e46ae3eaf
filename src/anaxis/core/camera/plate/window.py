"""What a picture shows as tangents, its border, and the camera whose picture it is."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens
from anaxis.core.typing import Floats, Ints

# Points worked out at once: as many as stay in a processor's own memory.
AT_ONCE = 60_000


class Window(NamedTuple):
    """A picture's left, right, bottom and top edges as tangents (n,), right and up counted positive."""

    left: Floats
    right: Floats
    bottom: Floats
    top: Floats

    def select_frames(self, frames: Ints | slice) -> Window:
        """The same on some of its frames; one that does not change stays as it is."""
        return self if len(self.left) == 1 else Window(*(edge[frames] for edge in self))

    def simplest(self) -> Window:
        """The same given once, where it does not change."""
        return self.select_frames(slice(0, 1)) if all(np.ptp(edge) == 0 for edge in self) else self

    def tangents(self, pixels: Floats, image: Image) -> Floats:
        """Pixels (m, 2), or (n, m, 2) frame by frame, from the upper left to tangents (n, m, 2)."""
        u = self.left[:, None] + (self.right - self.left)[:, None] * pixels[..., 0] / image.width_px
        v = self.top[:, None] - (self.top - self.bottom)[:, None] * pixels[..., 1] / image.height_px
        return np.stack([u, v], axis=-1)

    def pixels(self, tangents: Floats, image: Image) -> Floats:
        """The inverse of :meth:`tangents`."""
        x = image.width_px * (tangents[..., 0] - self.left[:, None]) / (self.right - self.left)[:, None]
        y = image.height_px * (self.top[:, None] - tangents[..., 1]) / (self.top - self.bottom)[:, None]
        return np.stack([x, y], axis=-1)


def window_of(lens: Lens, image: Image, fit: str) -> Window:
    """What the image of a lens shows on every frame (docs/conventions.md, Lens)."""
    used = lens.used(image, fit)
    left, right = lens.offset_x_mm - used.width_mm / 2, lens.offset_x_mm + used.width_mm / 2
    bottom, top = lens.offset_y_mm - used.height_mm / 2, lens.offset_y_mm + used.height_mm / 2
    return Window(left / lens.focal_mm, right / lens.focal_mm, bottom / lens.focal_mm, top / lens.focal_mm)


def border_pixels(image: Image, most: int = 100_000) -> Floats:
    """Points along the border of a picture, (m, 2): the corners of its pixels, ``most`` a side."""
    w, h = image.width_px, image.height_px
    x, y = np.linspace(0, w, min(w, most) + 1), np.linspace(0, h, min(h, most) + 1)
    sides = [(x, np.zeros_like(x)), (x, np.full_like(x, h)), (np.zeros_like(y), y), (np.full_like(y, w), y)]
    return np.concatenate([np.stack(s, axis=1) for s in sides])


def row_blocks(image: Image) -> Iterator[slice]:
    """The rows of a picture, as many at a time as AT_ONCE allows."""
    step = max(1, AT_ONCE // image.width_px)
    for first in range(0, image.height_px, step):
        yield slice(first, min(first + step, image.height_px))


def pixel_rows(image: Image) -> Iterator[tuple[slice, Floats]]:
    """The middles of all pixels, some rows at a time: which rows, and (rows * w, 2)."""
    for rows in row_blocks(image):
        x, y = np.arange(image.width_px) + 0.5, np.arange(rows.start, rows.stop) + 0.5
        yield rows, np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
