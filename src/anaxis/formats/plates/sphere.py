"""Pixels of an equirectangular picture beyond its edges, where filters reach; and an alpha for what lies outside a render."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import OpenImageIO as oiio

from anaxis.core.typing import Singles
from anaxis.formats.plates.picture import PictureFacts

# As far as the widest filter looks.
PAD = 8


def gone_round(pixels: Singles) -> Singles:
    """A picture (h, w, c) with PAD pixels more on each side: round the seam, and over the poles half way round."""
    half = pixels.shape[1] // 2
    over = [np.roll(rows[::-1], half, axis=1) for rows in (pixels[:PAD], pixels[-PAD:])]
    tall = np.concatenate([over[0], pixels, over[1]])
    return np.concatenate([tall[:, -PAD:], tall, tall[:, :PAD]], axis=1)


def map_of_gone_round(st: oiio.ImageBuf, size: tuple[int, int]) -> oiio.ImageBuf:
    """An ST map of a picture of ``size`` as one of the picture that :func:`gone_round` makes of it."""
    held = np.asarray(st.get_pixels(oiio.FLOAT))[..., :2].astype(np.float64)
    for i, side in enumerate(size):
        held[..., i] = (held[..., i] * side + PAD) / (side + 2 * PAD)
    return oiio.ImageBuf(np.ascontiguousarray(held, dtype=np.float32))


def with_alpha(pixels: Singles, facts: PictureFacts) -> tuple[Singles, PictureFacts]:
    """A picture of three channels with a fourth that is 1 everywhere, so that outside of it there is none; JPEG keeps none."""
    if pixels.shape[2] != 3 or facts.suffix in (".jpg", ".jpeg"):
        return pixels, facts
    one = np.ones((*pixels.shape[:2], 1), dtype=pixels.dtype)
    return np.concatenate([pixels, one], axis=2), replace(facts, channels=(*facts.channels, "A"))
