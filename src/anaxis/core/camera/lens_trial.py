"""A lens tried before it is taken: one frame, any one quantity typed, every other one following."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from anaxis.core.camera.lens import (
    FULL_FRAME_DIAGONAL_MM,
    Equivalents,
    Image,
    Used,
    equivalents,
    focal_of_view_mm,
    require_fit,
    used_rectangle,
)
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

# What a person may type, each of which settles the focal length.
DRIVERS = ("focal_mm", "hfov_deg", "vfov_deg", "dfov_deg", "zoom_px", "equivalent_35_mm")
KEEPS = ("focal length", "field of view")


@dataclass(frozen=True)
class Trial:
    """One lens at one frame, mm; offsets on the desqueezed film back."""

    film_width_mm: float
    film_height_mm: float
    focal_mm: float
    offset_x_mm: float
    offset_y_mm: float
    squeeze: float
    image: Image
    fit: str

    def __post_init__(self) -> None:
        require_fit(self.fit)
        for label, value in (
            ("film back width", self.film_width_mm),
            ("film back height", self.film_height_mm),
            ("focal length", self.focal_mm),
            ("squeeze", self.squeeze),
        ):
            if not 0.001 <= value <= 1e6:
                raise BadInput(f"A {label} of {value:g} is not possible: it must be above zero, in millimetres.")
        if not max(abs(self.offset_x_mm), abs(self.offset_y_mm)) <= 1e6:
            raise BadInput("An offset must be a number of millimetres.")

    @property
    def used(self) -> Used:
        return used_rectangle(self.film_width_mm, self.film_height_mm, self.squeeze, self.image, self.fit)

    @property
    def equivalents(self) -> Equivalents:
        return equivalents(self.focal_mm, self.used, self.image)

    def matrix(self) -> Floats:
        """Camera space (right, up, ahead) to homogeneous pixels, (3, 3) (docs/conventions.md, Lens)."""
        w, h, used = self.image.width_px, self.image.height_px, self.used
        wide, high = float(used.width_mm), float(used.height_mm)
        return np.array(
            [
                [w * self.focal_mm / wide, 0, w * (0.5 - self.offset_x_mm / wide)],
                [0, -h * self.focal_mm / high, h * (0.5 + self.offset_y_mm / high)],
                [0, 0, 1],
            ]
        )


def trial_at(track: Track, at: int, image: Image, fit: str) -> Trial:
    """The lens as it is at the frame in place ``at``."""
    lens = track.lens
    width, height, focal, x, y, squeeze = (
        float(getattr(lens, k)[at])
        for k in ("film_width_mm", "film_height_mm", "focal_mm", "offset_x_mm", "offset_y_mm", "squeeze")
    )
    return Trial(width, height, focal, x, y, squeeze, image, fit)


def with_film(trial: Trial, width_mm: float, height_mm: float, keep: str) -> Trial:
    """Another film back, keeping the focal length, or the image's horizontal field of view. Raises BadInput."""
    return _kept(trial, replace(trial, film_width_mm=width_mm, film_height_mm=height_mm), keep)


def with_fit(trial: Trial, fit: str, keep: str) -> Trial:
    """Another fit, keeping the focal length or the horizontal field of view. Raises BadInput."""
    return _kept(trial, replace(trial, fit=fit), keep)


def _kept(before: Trial, after: Trial, keep: str) -> Trial:
    if keep not in KEEPS:
        raise BadInput(f"'{keep}' cannot be kept: choose one of {', '.join(KEEPS)}.")
    if keep == KEEPS[0]:
        return after
    return replace(after, focal_mm=before.focal_mm * float(after.used.width_mm / before.used.width_mm))


def driven(trial: Trial, driver: str, value: float) -> Trial:
    """The focal length with which one of DRIVERS has a value. Raises BadInput."""
    used = trial.used
    diagonal = float(np.hypot(used.width_mm, used.height_mm))
    if driver in ("hfov_deg", "vfov_deg", "dfov_deg"):
        side = {"hfov_deg": used.width_mm, "vfov_deg": used.height_mm, "dfov_deg": diagonal}[driver]
        return replace(trial, focal_mm=float(focal_of_view_mm(side, value)))
    factor = {
        "focal_mm": 1.0,
        "zoom_px": float(used.width_mm) / trial.image.width_px,
        "equivalent_35_mm": diagonal / FULL_FRAME_DIAGONAL_MM,
    }.get(driver)
    if factor is None:
        raise BadInput(f"'{driver}' does not set a focal length: choose one of {', '.join(DRIVERS)}.")
    return replace(trial, focal_mm=value * factor)


def pixels_between(before: Trial, after: Trial) -> Floats:
    """What takes a homogeneous pixel of one lens to that of another at the same pose, (3, 3)."""
    return after.matrix() @ np.linalg.inv(before.matrix())
