"""What a diagnosis is asked: two cameras, how their pictures are made, and the pixels between them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.axes import Convention
from anaxis.core.lens import Image
from anaxis.core.project import pixel_matrices
from anaxis.core.proof import deviations_px, make_test_points
from anaxis.core.resample import sampled, sampled_straight
from anaxis.core.track import Track
from anaxis.core.typing import Floats
from anaxis.profiles.diagnosis_time import Timing
from anaxis.profiles.habits import Arriving

_SAMPLES = 16
_NO_MARKS = np.zeros((1, 0, 3))


@dataclass(frozen=True, eq=False)
class Case:
    """``meant`` and ``arrived``, both canonical; ``convention`` is the package's, for its words; ``bare`` are the
    camera meant without what stands above it, where something does."""

    meant: Track
    arrived: Track
    image: Image
    fit: str
    convention: Convention
    bare: tuple[Track, ...] = ()

    def aligned(self, timing: Timing, at: Any) -> Aligned:
        """What arrived at some places ``at`` of a timing, and the camera meant at the frames behind them."""
        seen = self.arrived.take(timing.arrived_at[at])

        def behind(track: Track) -> Track:
            draw = sampled_straight if timing.straight else sampled
            return replace(draw(track, timing.meant_frames[at]), frames=seen.frames, rate=seen.rate)

        return Aligned(seen, behind(self.meant), tuple(behind(b) for b in self.bare))

    def apart(self, seen: Track) -> Apart:
        return Apart(seen, self.image, self.fit)

    def arriving(self, track: Track) -> Arriving:
        """A camera for a habit to be done to; what stands above it plays no part."""
        return Arriving(track, self.image, self.fit, np.zeros((1, 4, 4)), np.zeros((1, 4, 4)))


class Aligned(NamedTuple):
    """A camera seen, what should have been seen, and the same without what stands above it."""

    seen: Track
    should: Track
    bare: tuple[Track, ...]


class Apart:
    """Pixels between a camera seen and others on the same frames, (m,), at a grid in front of the one seen."""

    def __init__(self, seen: Track, image: Image, fit: str) -> None:
        self._image, self._fit = image, fit
        self._points = make_test_points(seen, pixel_matrices(seen, image, fit), image, _NO_MARKS)

    def __call__(self, other: Track) -> Floats:
        return deviations_px(self._points, pixel_matrices(other, self._image, self._fit), self._image)


def spread(count: int) -> Any:
    return np.unique(np.linspace(0, count - 1, min(_SAMPLES, count)).round().astype(int))
