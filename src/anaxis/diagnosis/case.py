"""What a diagnosis is asked: two cameras, how their pictures are made, and the pixels between them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Lens, Track
from anaxis.core.motion.resample import sampled, sampled_straight
from anaxis.core.proof.proof import deviations_px, make_test_points, motion_size_m
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import nearest_places
from anaxis.core.typing import Floats
from anaxis.diagnosis.time import Timing
from anaxis.packages.habit import Arriving

_SAMPLES = 16
_IN_PICTURE = ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "squeeze")
_NO_MARKS = np.zeros((1, 0, 3))


@dataclass(frozen=True, eq=False)
class Case:
    """``meant`` and ``arrived``, both canonical; ``convention`` is the package's, for its words; ``bare`` are the
    camera meant without what stands above it, where something does. ``lens_said`` is False where what arrived says nothing of
    the lens and was given the one meant (:func:`lens_beside`)."""

    meant: Track
    arrived: Track
    image: Image
    fit: str
    convention: Convention
    bare: tuple[Track, ...] = ()
    lens_said: bool = True
    # The cameras meant, drawn once between their frames for all timings; by straight lines or not.
    drawn: dict[bool, dict[int, Track]] = field(default_factory=dict)

    def draw_for(self, timings: Sequence[Timing]) -> None:
        """Draw the cameras meant at the frames that a few samples of these timings ask for."""
        for straight, way in ((False, sampled), (True, sampled_straight)):
            asked = [t.meant_frames[spread(len(t.meant_frames))] for t in timings if t.straight is straight]
            if asked:
                at = np.unique(np.concatenate(asked))
                self.drawn[straight] = {id(track): way(track, at) for track in (self.meant, *self.bare)}

    def meant_at(self, frames: Floats, straight: bool) -> Track:
        """The camera meant at some frames."""
        return self._behind(self.meant, frames, straight)

    def _behind(self, track: Track, frames: Floats, straight: bool) -> Track:
        drawn = self.drawn.get(straight, {}).get(id(track))
        for known in (track, *([] if drawn is None else [drawn])):  # no curve need be drawn to find what is there
            place = nearest_places(known.frames, frames)
            if np.array_equal(known.frames[place], frames):
                return known.select_frames(place)
        return (sampled_straight if straight else sampled)(track, frames)

    def aligned(self, timing: Timing, at: Any) -> Aligned:
        """What arrived at some places ``at`` of a timing, and the camera meant at the frames behind them."""
        seen = self.arrived.select_frames(timing.arrived_at[at])

        def behind(track: Track) -> Track:
            drawn = self._behind(track, timing.meant_frames[at], timing.straight)
            return replace(drawn, frames=seen.frames, rate=seen.rate)

        should = behind(self.meant)
        if not self.lens_said:
            seen = replace(seen, lens=should.lens)
        return Aligned(seen, should, tuple(behind(b) for b in self.bare))

    def apart(self, seen: Track, should: Track | None = None) -> Apart:
        """Pixels from ``seen``; given what should have been seen, in a world of whose size it is."""
        if should is None:
            return Apart(seen, self.image, self.fit)
        # How far the focus lies is one of the things that may have been changed: where it was meant is looked at.
        focused = replace(seen, lens=replace(seen.lens, focus_m=should.lens.focus_m))
        return Apart(focused, self.image, self.fit, larger(seen, should))

    def arriving(self, track: Track) -> Arriving:
        """A camera for a habit to be done to; what stands above it plays no part."""
        return Arriving(track, self.image, self.fit, np.zeros((1, 4, 4)), np.zeros((1, 4, 4)))


class Aligned(NamedTuple):
    """A camera seen, what should have been seen, and the same without what stands above it."""

    seen: Track
    should: Track
    bare: tuple[Track, ...]


class Apart:
    """Pixels between a camera seen and others on the same frames, (m,), at a grid in front of the one seen.

    ``scale`` says how many times larger its world is: what stands a metre away there stands that much further off.
    """

    def __init__(self, seen: Track, image: Image, fit: str, scale: float = 1.0) -> None:
        self._image, self._fit = image, fit
        small = replace(seen, position_m=seen.position_m / scale)
        self._points = make_test_points(small, projection_of(small, image, fit), _NO_MARKS).scaled(scale)

    def __call__(self, other: Track) -> Floats:
        return deviations_px(self._points, projection_of(other, self._image, self._fit))


def lens_beside(meant: Track, frames: Floats) -> Lens:
    """The lens meant at the frames (m,) that are nearest to those asked for."""
    return meant.lens.select_frames(nearest_places(meant.frames, frames))


def larger(seen: Track, should: Track) -> float:
    """How many times as far one camera moves as another, where that is another scale of the world and no noise; else 1."""
    sizes = motion_size_m(seen), motion_size_m(should)
    if min(sizes) < 1e-6:
        return 1.0
    ratio = sizes[0] / sizes[1]
    return ratio if ratio > 2 or ratio < 0.5 else 1.0


def spread(count: int) -> Any:
    return np.unique(np.linspace(0, count - 1, min(_SAMPLES, count)).round().astype(int))
