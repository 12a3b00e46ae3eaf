"""How the source makes its picture, and which of that is a guess."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.scene.nodes import Scene

DEFAULT_IMAGE = Image(1920, 1080)
DEFAULT_SOURCE_FIT = "width"
# Formats that state the picture's aspect with the lens, and no film back.
_OF_ASPECT = ("gltf", "collada")
_SAME_ASPECT, _WIDEST = 1e-3, 20.0


@dataclass(frozen=True, eq=False)
class Picture:
    """The image, how it is inscribed in the film back, and which of both nobody has said."""

    image: Image
    fit: str
    image_guessed: bool
    fit_guessed: bool


def picture_of(scene: Scene, image: Image | None, fit: str | None) -> Picture:
    """The source's picture: what was asked for, else what the file says, else a visible guess."""
    return Picture(
        image=image or scene.image or _guessed_image(scene),
        fit=fit or scene.source_fit or DEFAULT_SOURCE_FIT,
        image_guessed=image is None and scene.image is None,
        fit_guessed=fit is None and scene.source_fit is None,
    )


def stated_aspect(scene: Scene) -> float | None:
    """The picture's aspect that a file states with its cameras where it states no size; None where they do not agree.

    In formats without a film back the aspect of the one that was taken is the aspect stated.
    """
    if scene.image is not None:
        return None
    bare = [c for c in scene.cameras if f"lens:{c.path}" in scene.guesses and f"aspect:{c.path}" not in scene.guesses]
    lenses = [c.lens for c in bare if c.lens is not None]
    if scene.format not in _OF_ASPECT or not lenses:
        return None
    found = np.concatenate([lens.film_width_mm / lens.film_height_mm for lens in lenses])
    if not np.isfinite(found).all() or found.min() <= 0 or found.max() / found.min() - 1 > _SAME_ASPECT:
        return None
    return float(found[0])


def _guessed_image(scene: Scene) -> Image:
    """The usual size, or one of the aspect that the file states: the larger side stays."""
    aspect = stated_aspect(scene)
    if aspect is None or not 1 / _WIDEST < aspect < _WIDEST or abs(aspect / DEFAULT_IMAGE.aspect - 1) < _SAME_ASPECT:
        return DEFAULT_IMAGE
    long = DEFAULT_IMAGE.width_px
    return Image(long, round(long / aspect)) if aspect >= 1 else Image(round(long * aspect), long)
