"""From the pixels of a pinhole render to the pixels of the plate as shot, and back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import Overscan, no_overscan
from anaxis.core.camera.plate.reach import frames_of, reach_of
from anaxis.core.camera.plate.window import Window, window_of
from anaxis.core.camera.track import Track
from anaxis.core.typing import Floats, Ints


@dataclass(frozen=True, eq=False)
class Bend:
    """A distortion between two pictures: ``render``, seen as a pinhole does, and ``plate``, the picture as shot.

    ``reach`` is how far out the plate reaches in the pinhole picture, in tangents: nothing folds within it.
    """

    distortion: Distortion
    plate: Window
    render: Overscan
    reach: float

    @property
    def moves(self) -> bool:
        """Whether frames are bent in different ways."""
        return frames_of(self.distortion, self.plate) > 1

    def select_frames(self, frames: Ints | slice) -> Bend:
        """The same on some of its frames."""
        return Bend(self.distortion.select_frames(frames), self.plate.select_frames(frames), self.render, self.reach)

    def to_plate(self, pixels: Floats) -> Floats:
        """Pixels (n, m, 2) of the render to those of the plate; not finite where the lens does not see them."""
        tangents = self.render.window(self.plate).tangents(pixels, self.render.image)
        count = max(len(tangents), self.distortion.frames)
        with np.errstate(all="ignore"):
            out = self.plate.pixels(self.distortion.distort(tangents), self.render.plate)
            # Beyond what the plate shows a model's curve may turn back, and put into the picture what is not seen in it.
            beyond = ~(np.linalg.norm(tangents - self.distortion.centre(count), axis=-1) <= self.reach)
            if beyond.any():
                out[beyond & ~self.distortion.clear_of_folds(tangents)] = np.inf
        return out

    def from_plate(self, pixels: Floats) -> Floats:
        """The inverse: pixels (n or 1, m, 2) of the plate to those of the render."""
        tangents = self.plate.tangents(pixels, self.render.plate)
        return self.render.window(self.plate).pixels(self.distortion.undistort(tangents, self.reach), self.render.image)


def bend_of(track: Track, image: Image, fit: str, render: Overscan | None = None) -> Bend | None:
    """How a camera's plate ``image`` is bent; None where it has no distortion.

    Raises BadInput where the distortion folds over inside the plate.
    """
    if track.distortion is None:
        return None
    window = window_of(track.lens, image, fit).simplest()
    reach = reach_of(track.distortion, window, image)
    return Bend(track.distortion, window, render or no_overscan(image), reach)
