"""Equirectangular pictures: where a direction lies in one, and the other way (docs/conventions.md, Equirectangular).

An image of 2:1 whose centre looks along the plate camera's -Z; longitude grows to the right, latitude up:
``lon = 2 pi (x/w - 1/2)``, ``lat = pi (1/2 - y/h)``. Directions are in the plate camera's own axes.
"""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats


def require_equirectangular(image: Image) -> None:
    """Raise BadInput for an image that is not twice as wide as high."""
    if abs(image.aspect - 2) > 1e-3:
        raise BadInput(
            f"{image.width_px} x {image.height_px} px with a pixel aspect of {image.pixel_aspect:g} is not equirectangular: the picture must be twice as wide as high."
            ""
        )


def pixels_of(directions: Floats, image: Image) -> Floats:
    """Directions (..., 3), of any length, to pixels (..., 2) from the upper left."""
    x, y, z = directions[..., 0], directions[..., 1], directions[..., 2]
    lon, lat = np.arctan2(x, -z), np.arctan2(y, np.hypot(x, z))
    return np.stack([image.width_px * (lon / (2 * np.pi) + 0.5), image.height_px * (0.5 - lat / np.pi)], axis=-1)


def directions_of(pixels: Floats, image: Image) -> Floats:
    """The inverse of :func:`pixels_of`, unit vectors (..., 3)."""
    lon = 2 * np.pi * (pixels[..., 0] / image.width_px - 0.5)
    lat = np.pi * (0.5 - pixels[..., 1] / image.height_px)
    flat = np.cos(lat)
    return np.stack([flat * np.sin(lon), np.sin(lat), -flat * np.cos(lon)], axis=-1)


def across_px(a: Floats, b: Floats, image: Image) -> Floats:
    """How far apart two places (..., 2) are in pixels at the picture's equator: by the angle between them, so that
    neither the seam nor the poles count more than the rest."""
    one, other = directions_of(a, image), directions_of(b, image)
    angle = np.arctan2(np.linalg.norm(np.cross(one, other), axis=-1), np.sum(one * other, axis=-1))
    return np.asarray(angle * image.width_px / (2 * np.pi))
