"""A camera's distortion for the browser: where the corners of a mesh over the pinhole picture come to lie in the plate.

The browser draws between them straight; nothing is measured with it.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.bend import Bend, bend_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

# Cells across and down, beyond the picture's sides by a share of it; fewer where every frame has a mesh of its own.
_FINE, _COARSE, _BEYOND = (64, 40), (24, 15), 0.25


class BendMesh(NamedTuple):
    """``facts`` for the browser: ``bend_rect_px`` is the part of the pinhole picture that the mesh lies over, ``bend_said`` says
    why there is none where the distortion folds over."""

    facts: dict[str, Any]
    bend: Bend | None
    pixels: Floats

    @property
    def moves(self) -> bool:
        """Whether each frame has a mesh of its own."""
        return self.bend is not None and self.bend.moves

    def arrays(self, frames: slice = slice(None)) -> dict[str, Floats]:
        """``bend_px`` (n or 1, rows + 1, columns + 1, 2) of some frames, not a number where the lens shows nothing; nothing where
        there is no distortion."""
        if self.bend is None:
            return {}
        bent = self.bend.select_frames(frames).to_plate(self.pixels.reshape(1, -1, 2))
        bent[~np.isfinite(bent).all(axis=-1)] = np.nan
        return {"bend_px": bent.reshape(-1, *self.pixels.shape)}


def bend_mesh(track: Track, image: Image, fit: str) -> BendMesh:
    """The mesh of a camera over the pinhole picture, and what the browser needs to know of it."""
    try:
        bend = bend_of(track, image, fit)
    except BadInput as error:
        return BendMesh({"bend_said": error.sentence}, None, np.zeros((0, 0, 2)))
    if bend is None:
        return BendMesh({}, None, np.zeros((0, 0, 2)))
    columns, rows = _COARSE if bend.moves else _FINE
    x = np.linspace(-_BEYOND, 1 + _BEYOND, columns + 1) * image.width_px
    y = np.linspace(-_BEYOND, 1 + _BEYOND, rows + 1) * image.height_px
    rect = [float(x[0]), float(y[0]), float(x[-1]), float(y[-1])]
    return BendMesh({"bend_rect_px": rect}, bend, np.stack(np.meshgrid(x, y), axis=-1))
