"""A camera as it goes out: with its picture, the placement a root would carry, and what lies about it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.motion.placement import Similarity, no_placement
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Floats


@dataclass(frozen=True, eq=False)
class ShotCamera:
    """A camera that goes out: its picture, the placement that a root above it would carry, the set's lines (s, 2, 3).

    ``finer`` is the same camera on the source's own samples between frames, where it has such and they were asked for;
    ``has_finer`` says whether the source has any.
    """

    track: Track
    landmarks: Landmarks
    picture: Picture
    placement: Similarity = field(default_factory=no_placement)
    lines_m: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))
    finer: Track | None = None
    has_finer: bool = False
