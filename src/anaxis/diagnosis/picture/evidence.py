"""What every explanation of a picture is compared with: the placed landmarks, and how likely they are under a camera.

A landmark that was placed at another one's position is allowed for: each may be anywhere in the picture, with a small probability.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import pinhole_px
from anaxis.core.camera.track import Track
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, Ints
from anaxis.diagnosis.case import Case
from anaxis.diagnosis.picture.points import PicturePoints
from anaxis.diagnosis.time import Cause

# A placed point is at another landmark, or nowhere, with this probability.
_MISPLACED = 0.01
# Where a hidden landmark would be seen in the picture, it may be behind something.
_HIDDEN_NATS = 0.7
# Where a point behind the camera is said to be seen.
_NOWHERE_PX = 1e7


@dataclass(frozen=True, eq=False)
class PictureCase:
    """A camera as meant, with its landmarks, how its picture is made, and the pictures that a package took of it; ``bare`` is the
    camera without what stands above it."""

    meant: Track
    landmarks: Landmarks
    image: Image
    fit: str
    convention: Convention
    pictures: tuple[PicturePoints, ...]
    bare: tuple[Track, ...] = ()

    @property
    def unchanged(self) -> Case:
        """The camera beside itself, as causes take it that are done to it."""
        return Case(self.meant, self.meant, self.image, self.fit, self.convention, self.bare)

    def frame_of(self, picture: PicturePoints) -> float:
        """The frame that a picture shows; the first of the shot where it is unknown."""
        return float(self.meant.frames[0] if picture.frame is None else picture.frame)

    def marks_m(self, picture: PicturePoints, frame: float) -> Floats:
        """Where the landmarks of a picture stand at a frame, (m, 3)."""
        return self._marks(picture.marks, frame)

    def hidden_m(self, picture: PicturePoints, frame: float) -> Floats:
        return self._marks(picture.hidden, frame)

    def _marks(self, marks: Ints, frame: float) -> Floats:
        place = self.landmarks.position_m
        at = 0 if len(place) == 1 else int(np.abs(self.meant.frames - frame).argmin())
        return np.asarray(place[at, marks])


class Seen(NamedTuple):
    """Camera poses and lenses of all pictures: positions (s, 3), rotations (s, 3, 3), intrinsics (s, 4)."""

    position_m: Floats
    rotation: Floats
    intrinsics: Floats


@dataclass(frozen=True, eq=False)
class Hypothesis:
    """Causes with what the pictures make of them: ``evidence`` in nats, the pixels that each placed landmark is off, and which
    frames of the shot the pictures show. ``free`` counts the numbers that were fitted; ``alike`` are other causes that make the
    same picture on every frame."""

    causes: tuple[Cause, ...]
    evidence: float
    residual_px: Floats
    shown: tuple[float, ...]
    seen: Seen
    free: int
    way: int = 0
    probability: float = 0.0
    alike: tuple[tuple[Cause, ...], ...] = ()


@dataclass(frozen=True, eq=False)
class Points:
    """What every hypothesis is held against."""

    case: PictureCase
    track: Track  # on the frames looked at
    marks_m: list[Floats]
    hidden_m: list[Floats]
    sigma_px: Floats
    size_m: float
    slack_deg: Floats  # how far a rotation may be from the camera found, for every picture
    aside_px: Floats  # how far the expected principal point is from the centre at most, for every picture

    @property
    def has_offsets(self) -> bool:
        return bool(self.aside_px.max() > 1e-3)

    def residuals(self, seen: Seen) -> list[Floats]:
        """(m, 2) pixels for every picture."""
        out = []
        for s, picture in enumerate(self.case.pictures):
            px = project(self.marks_m[s], seen.position_m[s], seen.rotation[s], seen.intrinsics[s])
            out.append(px - picture.px)
        return out

    def log_likelihood(self, seen: Seen) -> float:
        total = 0.0
        for s, (picture, off) in enumerate(zip(self.case.pictures, self.residuals(seen), strict=True)):
            total += log_likelihood_of(off, float(self.sigma_px[s]), picture.image)
            if len(self.hidden_m[s]):
                px = project(self.hidden_m[s], seen.position_m[s], seen.rotation[s], seen.intrinsics[s])
                size = (picture.image.width_px, picture.image.height_px)
                total -= _HIDDEN_NATS * float(np.count_nonzero(((px > 0) & (px < size)).all(axis=1)))
        return total


def project(points_m: Floats, position_m: Floats, rotation: Floats, intrinsics: Floats) -> Floats:
    px, depth = pinhole_px(points_m, position_m, rotation, intrinsics)
    px[~(depth > 1e-6)] = _NOWHERE_PX
    return px


def log_likelihood_of(off: Floats, sigma: float, image: Image) -> float:
    """Of points (m, 2) off by normal errors, or anywhere in the picture."""
    with np.errstate(over="ignore"):
        normal = np.exp(-0.5 * (off**2).sum(axis=1) / sigma**2) / (2 * np.pi * sigma**2)
    anywhere = _MISPLACED / (image.width_px * image.height_px)
    return float(np.log((1 - _MISPLACED) * normal + anywhere).sum())
