"""What the edges of a render tell: whether they are smeared outward, or empty."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.typing import Singles

SIDES = ("left", "right", "top", "bottom")
# A band is looked for so many pixels deep; so much of a side must agree for it to be one.
_DEEPEST, _MOST_OF_A_SIDE = 256, 0.99
# A step along the edge; with fewer of them it is a sky or a wall, of which nothing can be told. What goes on for as deep as is
# looked, or for a line or two, is no smear.
_STEP, _STEPS, _FEWEST = 0.002, 24, 3


class Edges(NamedTuple):
    """By side, in pixels: how deep the picture repeats its own edge (``smeared``), and how deep it is empty; and the sides that
    are too ``even`` for the first to be told."""

    smeared: dict[str, int]
    empty: dict[str, int]
    even: tuple[str, ...]


def edges_of(pixels: Singles) -> Edges:
    """What stands along the four sides of a picture (h, w, c)."""
    smeared, empty, even = {}, {}, []
    for side in SIDES:
        band = _from(pixels, side)[:_DEEPEST]
        blank = np.abs(band).max(axis=-1) == 0
        empty[side] = _depth(blank.mean(axis=1) >= _MOST_OF_A_SIDE)
        lines = band[empty[side] :]
        if len(lines) < 2:
            smeared[side] = 0
            continue
        same = (np.abs(lines[1:] - lines[:1]).max(axis=-1) <= 1e-6).mean(axis=1) >= _MOST_OF_A_SIDE
        steps = int((np.abs(np.diff(lines[0], axis=0)).max(axis=-1) > _STEP).sum())
        depth = _depth(same) + 1  # with the line that is repeated
        repeats = depth >= _FEWEST
        smeared[side] = depth if repeats and depth < len(lines) and steps >= _STEPS else 0
        if repeats and steps < _STEPS:
            even.append(side)
    return Edges({k: v for k, v in smeared.items() if v}, {k: v for k, v in empty.items() if v}, tuple(even))


def _from(pixels: Singles, side: str) -> Singles:
    """The picture's lines from a side inward, (n, m, c)."""
    turned = pixels if side in ("top", "bottom") else np.swapaxes(pixels, 0, 1)
    return turned if side in ("top", "left") else turned[::-1]


def _depth(agrees: np.ndarray) -> int:
    """How many of the first lines agree, without a gap."""
    return int(len(agrees) if agrees.all() else np.argmin(agrees))
