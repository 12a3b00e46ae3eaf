"""The channels of a lens and what is to be known of each: one table, asked by whoever goes through them."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np


class Channel(NamedTuple):
    """``framing``: it shapes the picture, and no camera is without it; the others may be missing (NaN).

    ``positive``: nothing at or below zero makes sense. ``neutral`` stands where nothing is said. ``clip``: it is no part
    of the picture itself, the near or the far clip.
    """

    label: str
    unit: str
    neutral: float
    framing: bool = False
    positive: bool = True
    clip: bool = False

    @property
    def of_the_scene(self) -> bool:
        """Whether it is a length in the scene, and so in the scene's unit in files."""
        return self.unit == "m"


CHANNELS: dict[str, Channel] = {
    "focal_mm": Channel("focal length", "mm", 50.0, framing=True),
    "film_width_mm": Channel("film back width", "mm", 36.0, framing=True),
    "film_height_mm": Channel("film back height", "mm", 24.0, framing=True),
    "offset_x_mm": Channel("offset right", "mm", 0.0, framing=True, positive=False),
    "offset_y_mm": Channel("offset up", "mm", 0.0, framing=True, positive=False),
    "squeeze": Channel("squeeze", "x", 1.0, framing=True),
    "focus_m": Channel("focus distance", "m", np.nan),
    "fstop": Channel("stop", "f", np.nan),
    "near_m": Channel("near clip", "m", np.nan, clip=True),
    "far_m": Channel("far clip", "m", np.nan, clip=True),
}
FRAMING = tuple(name for name, c in CHANNELS.items() if c.framing)
BESIDE = tuple(name for name, c in CHANNELS.items() if not c.framing)
BY_LABEL = {c.label: name for name, c in CHANNELS.items()}
