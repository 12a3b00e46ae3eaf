"""What an explanation shows over the shot: whether two show the same, and at which frame they differ."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.time.rates import nearest_places
from anaxis.core.typing import Floats
from anaxis.diagnosis.picture.candidates import OTHER_FIT
from anaxis.diagnosis.picture.evidence import Hypothesis, PictureCase
from anaxis.diagnosis.picture.points import FEWEST
from anaxis.diagnosis.pose import bases
from anaxis.diagnosis.time import Cause
from anaxis.packages.habits import HABITS

# Frames on which explanations are compared, and below which pixels they show the same.
_VIEWS, _MOST_VIEWS, _SAME_PX = 25, 400, 0.2
# A second picture tells where landmarks are apart by so many times how well they are placed.
_TELLS = 6.0


@dataclass(frozen=True, eq=False)
class Views:
    """Where the landmarks of the pictures would be seen on some frames of the shot: ``px`` (n, m, 2), NaN behind the camera."""

    frames: Floats
    px: Floats

    def same_as(self, other: Views) -> bool:
        """Whether no picture of the shot would tell the two apart."""
        both = np.isfinite(self.px).all(axis=2) & np.isfinite(other.px).all(axis=2)
        if not np.array_equal(np.isfinite(self.px), np.isfinite(other.px)) or not both.any():
            return False
        return bool(np.abs(self.px - other.px)[both].max() < _SAME_PX)


def camera_under(case: PictureCase, causes: tuple[Cause, ...], way: int = 0) -> tuple[Track, str]:
    """The camera as a package would show it that did this to it, and the fit of its picture."""
    track, fit = case.meant, case.fit
    beside = case.unchanged
    for code, params in causes:
        if code == OTHER_FIT:
            fit = str(params["fit"])
        elif code in ("parents", "twice"):
            track = next(moved for k, (_, _, moved) in enumerate(bases(beside, track, case.bare)) if k == way)
        else:
            track = HABITS[code].arrive(beside.arriving(track), params, case.convention).track
    return track, fit


def views_of(case: PictureCase, found: Hypothesis, most: int = _VIEWS) -> Views:
    """The views of an explanation on up to ``most`` frames of the shot, at the size of the first picture."""
    track, fit = camera_under(case, found.causes, found.way)
    frames = case.meant.frames[
        np.unique(np.linspace(0, len(case.meant) - 1, min(most, len(case.meant))).round().astype(int))
    ]
    shown = track.select_frames(nearest_places(track.frames, frames))
    place = case.landmarks.position_m
    at = np.zeros(len(frames), dtype=int) if len(place) == 1 else nearest_places(case.meant.frames, frames)
    marks = np.unique(np.concatenate([p.marks for p in case.pictures]))
    image = case.pictures[0].image
    px, depth = projection_of(shown, image, fit).project(place[at][:, marks])
    px = np.where((depth > 1e-6)[:, :, None], np.clip(px, -1e5, 1e5), np.nan)
    return Views(frames, px)


class Deciding(NamedTuple):
    """A frame whose picture tells two explanations apart, and how many pixels apart they show a landmark."""

    frame: float
    landmark: str
    apart_px: float


def deciding_frame(case: PictureCase, one: Hypothesis, other: Hypothesis, sigma_px: float) -> Deciding | None:
    """The frame at which a second picture would tell best between two explanations; None where no frame of the shot does."""
    a, b = views_of(case, one, _MOST_VIEWS), views_of(case, other, _MOST_VIEWS)
    image = case.pictures[0].image
    size = np.array([image.width_px, image.height_px])
    inside = [((v.px > 0) & (v.px < size)).all(axis=2) for v in (a, b)]
    both = inside[0] & inside[1]
    apart = np.where(both, np.linalg.norm(np.nan_to_num(a.px) - np.nan_to_num(b.px), axis=2), 0.0)
    # What is placed on the next picture must be in it whichever of the two is right.
    score = np.where(
        both.sum(axis=1) >= FEWEST,
        np.minimum(apart.sum(axis=1) / np.maximum(both.sum(axis=1), 1), image.width_px / 4),
        0.0,
    )
    at = int(np.argmax(score))
    if score[at] < _TELLS * sigma_px:
        return None
    marks = np.unique(np.concatenate([p.marks for p in case.pictures]))
    best = int(np.argmax(apart[at]))
    return Deciding(float(a.frames[at]), case.landmarks.names[int(marks[best])], float(apart[at, best]))
