"""A camera's distortion for the browser: where the corners of a mesh over the pinhole picture come to lie in the plate.

The browser draws between them straight; nothing is measured with it.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.bend import bend_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

# Cells across and down, beyond the picture's sides by a share of it; fewer where every frame has a mesh of its own.
_FINE, _COARSE, _BEYOND = (64, 40), (24, 15), 0.25


def bend_mesh(track: Track, image: Image, fit: str) -> tuple[dict[str, Any], dict[str, Floats]]:
    """Facts and arrays for :func:`anaxis.web.drawings.packed.encode_drawing`; nothing where there is no distortion.

    ``bend_px`` is (n or 1, rows + 1, columns + 1, 2), not a number where the lens shows nothing; ``bend_rect_px`` is
    the part of the pinhole picture it lies over; ``bend_said`` why there is none where the distortion folds over.
    """
    if track.distortion is None:
        return {}, {}
    try:
        bend = bend_of(track, image, fit)
    except BadInput as error:
        return {"bend_said": error.sentence}, {}
    assert bend is not None
    moving = max(bend.distortion.frames, len(bend.plate.left)) > 1
    columns, rows = _COARSE if moving else _FINE
    x = np.linspace(-_BEYOND, 1 + _BEYOND, columns + 1) * image.width_px
    y = np.linspace(-_BEYOND, 1 + _BEYOND, rows + 1) * image.height_px
    pixels = np.stack(np.meshgrid(x, y), axis=-1).reshape(1, -1, 2)
    bent = bend.to_plate(pixels)
    bent[~np.isfinite(bent).all(axis=-1)] = np.nan
    rect = [float(x[0]), float(y[0]), float(x[-1]), float(y[-1])]
    return {"bend_rect_px": rect}, {"bend_px": bent.reshape(-1, rows + 1, columns + 1, 2)}
