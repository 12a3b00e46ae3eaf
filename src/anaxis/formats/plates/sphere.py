"""Pixels of an equirectangular picture beyond its edges, where filters reach; and an alpha for what lies outside a render."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

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


def with_alpha(pixels: Singles, facts: PictureFacts) -> tuple[Singles, PictureFacts]:
    """A picture of three channels with a fourth that is 1 everywhere, so that outside of it there is none; JPEG keeps none."""
    if pixels.shape[2] != 3 or facts.suffix in (".jpg", ".jpeg"):
        return pixels, facts
    one = np.ones((*pixels.shape[:2], 1), dtype=pixels.dtype)
    return np.concatenate([pixels, one], axis=2), replace(facts, channels=(*facts.channels, "A"))
