"""The lens: how the image is inscribed in the film back, fields of view, zoom.

All lengths in millimetres unless named otherwise; every quantity may be an array over frames.
Formulas: docs/conventions.md, Lens. With squeeze q the film back is seen q times wider, and the horizontal
offset is measured on the desqueezed image.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from anaxis.core.bounds import require_image
from anaxis.core.camera.fits import FITS
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, FloatsLike

FIT_WORDS = {
    "width": "the image takes the film back's width",
    "height": "the image takes the film back's height",
    "inside": "the image crops the film back",
    "outside": "the image pads the film back",
    "stretch": "the image is stretched over the film back",
}
# Relative: film backs that differ by less are the same number seen through single precision, which
# files use for lenses; on a picture of 4096 pixels it is half a thousandth of one.
_SAME = 2.5e-7


@dataclass(frozen=True)
class Image:
    """An image of ``width_px`` by ``height_px`` pixels that are ``pixel_aspect`` times wide as high."""

    width_px: int
    height_px: int
    pixel_aspect: float = 1.0

    def __post_init__(self) -> None:
        require_image(self.width_px, self.height_px, self.pixel_aspect)

    @property
    def aspect(self) -> float:
        """Width over height as seen: A = w a / h."""
        return self.width_px * self.pixel_aspect / self.height_px


class Used(NamedTuple):
    """The rectangle of the desqueezed film back that the image shows: width and height in mm."""

    width_mm: Floats
    height_mm: Floats


def parse_image(text: str, pixel_aspect: float = 1.0) -> Image:
    """An image size from ``"1920x1080"``; raises BadInput."""
    parts = text.lower().replace("×", "x").split("x")
    try:
        width, height = (int(p) for p in parts)
    except ValueError as error:
        raise BadInput(f"'{text}' is not a resolution: write it as 1920x1080.") from error
    return Image(width, height, pixel_aspect)


def require_fit(fit: str) -> None:
    """Raise BadInput that lists the fits where ``fit`` is none of them."""
    if fit not in FITS:
        raise BadInput(f"'{fit}' is not a fit: choose one of {', '.join(FITS)}.")


def used_rectangle(
    film_width_mm: FloatsLike, film_height_mm: FloatsLike, squeeze: FloatsLike, image: Image, fit: str
) -> Used:
    """What of the desqueezed film back the image shows under a fit (docs/conventions.md, Lens).

    Raises BadInput for an unknown fit.
    """
    wide = np.asarray(squeeze, dtype=np.float64) * np.asarray(film_width_mm, dtype=np.float64)
    high = np.asarray(film_height_mm, dtype=np.float64)
    wide, high = np.broadcast_arrays(wide, high)
    by_width = Used(wide, wide / image.aspect)
    by_height = Used(high * image.aspect, high)
    if fit == "width":
        return by_width
    if fit == "height":
        return by_height
    if fit == "stretch":
        return Used(wide, high)
    require_fit(fit)
    image_is_wider = image.aspect > wide / high
    takes_width = image_is_wider if fit == "inside" else ~image_is_wider
    return Used(
        np.where(takes_width, by_width.width_mm, by_height.width_mm),
        np.where(takes_width, by_width.height_mm, by_height.height_mm),
    )


def offsets_of_part_mm(
    offset_mm: tuple[Floats, Floats],
    used: Used,
    plate: Image,
    corner_px: tuple[float, float],
    size_px: tuple[float, float],
) -> tuple[Floats, Floats]:
    """The offsets right and up of a rectangle of a plate (parts of it may lie outside): those of its own middle."""
    right = (corner_px[0] + size_px[0] / 2) / plate.width_px - 0.5
    down = (corner_px[1] + size_px[1] / 2) / plate.height_px - 0.5
    return offset_mm[0] + right * used.width_mm, offset_mm[1] - down * used.height_mm


def same_used(a: Used, b: Used) -> bool:
    """Whether two used rectangles show the same picture on every frame."""
    return bool(
        np.allclose(a.width_mm, b.width_mm, rtol=_SAME, atol=0)
        and np.allclose(a.height_mm, b.height_mm, rtol=_SAME, atol=0)
    )


def field_of_view_deg(used_mm: FloatsLike, focal_mm: FloatsLike) -> Floats:
    """2 atan(used / 2 f) in degrees."""
    used = np.asarray(used_mm, dtype=np.float64)
    return np.degrees(2.0 * np.arctan2(used, 2.0 * np.asarray(focal_mm, dtype=np.float64)))


def zoom_px(focal_mm: FloatsLike, used_width_mm: FloatsLike, image: Image) -> Floats:
    """Focal length in pixels of the image's width: f w / used_w."""
    return np.asarray(focal_mm, dtype=np.float64) * image.width_px / np.asarray(used_width_mm)


# The diagonal of a 36 x 24 mm film back, which equivalents and crop factors refer to.
FULL_FRAME_DIAGONAL_MM = float(np.hypot(36.0, 24.0))


class Equivalents(NamedTuple):
    """One lens said in every way people say it; arrays over frames.

    ``equivalent_35_mm`` is the focal length with the same diagonal field of view on a 36 x 24 mm film back, and
    ``crop_factor`` the ratio of the diagonals, both of the used rectangle.
    """

    hfov_deg: Floats
    vfov_deg: Floats
    dfov_deg: Floats
    used_width_mm: Floats
    used_height_mm: Floats
    zoom_px: Floats
    equivalent_35_mm: Floats
    crop_factor: Floats


def equivalents(focal_mm: FloatsLike, used: Used, image: Image) -> Equivalents:
    """Every equivalent of a focal length over a used rectangle (docs/conventions.md, Lens)."""
    diagonal = np.hypot(used.width_mm, used.height_mm)
    crop = FULL_FRAME_DIAGONAL_MM / diagonal
    focal = np.asarray(focal_mm, dtype=np.float64)
    return Equivalents(
        field_of_view_deg(used.width_mm, focal),
        field_of_view_deg(used.height_mm, focal),
        field_of_view_deg(diagonal, focal),
        used.width_mm,
        used.height_mm,
        zoom_px(focal, used.width_mm, image),
        focal * crop,
        crop,
    )


def focal_of_view_mm(used_mm: FloatsLike, view_deg: FloatsLike) -> Floats:
    """The focal length that sees ``used_mm`` under an angle; raises BadInput outside 0 to 180 degrees."""
    view = np.asarray(view_deg, dtype=np.float64)
    if not ((view > 0) & (view < 180)).all():
        raise BadInput(
            f"A field of view of {float(np.ravel(view)[0]):g} degrees is not possible: it must be between 0 and 180."
        )
    return np.asarray(np.asarray(used_mm, dtype=np.float64) / 2 / np.tan(np.radians(view) / 2))


def parse_size_mm(text: str) -> tuple[float, float]:
    """Width and height in millimetres from ``"25.6x14.4"``; raises BadInput."""
    try:
        width, height = (float(p) for p in text.lower().replace("×", "x").split("x"))
    except ValueError as error:
        raise BadInput(f"'{text}' is not a film back: write it in millimetres as 25.6x14.4.") from error
    if not (np.isfinite([width, height]).all() and min(width, height) > 0):
        raise BadInput(f"'{text}' is not a film back: both sides must be above zero.")
    return width, height


class HandOver(NamedTuple):
    """The film back the receiver gets, whether it is the source's own, and why if not.

    ``image`` is the receiver's image: the source's, with its pixel aspect changed where a
    stretched picture cannot be shown otherwise.
    """

    film_width_mm: Floats
    film_height_mm: Floats
    image: Image
    unchanged: bool
    note: str


def hand_over(
    film_width_mm: Floats, film_height_mm: Floats, squeeze: Floats, image: Image, source_fit: str, receiver_fit: str
) -> HandOver:
    """The film back with which a receiver of another fit shows the same picture (docs/conventions.md, Lens).

    Raises BadInput where a stretched picture changes its proportions from frame to frame.
    """
    used = used_rectangle(film_width_mm, film_height_mm, squeeze, image, source_fit)
    theirs = used_rectangle(film_width_mm, film_height_mm, squeeze, image, receiver_fit)
    if same_used(used, theirs):
        return HandOver(film_width_mm, film_height_mm, image, True, "")
    width, height = used.width_mm / squeeze, used.height_mm
    note = (
        f"The film back is delivered as {width[0]:.3f} x {height[0]:.3f} mm, the part of it the image "
        f"uses, because the receiving package fits the image by {receiver_fit} and the source by {source_fit}."
    )
    # A stretched picture has no square pixels on the film back, so no other fit shows it as it is
    # unless the pixels themselves become oblong.
    proportion = used.width_mm / used.height_mm
    if receiver_fit != "stretch" and not np.allclose(proportion, image.aspect, rtol=_SAME, atol=0):
        if not np.allclose(proportion, proportion[0], rtol=_SAME, atol=0):
            raise BadInput(
                "The source stretches the image over a film back whose proportions are animated, which "
                f"no receiver with the fit '{receiver_fit}' can show: choose another source fit."
            )
        image = Image(image.width_px, image.height_px, float(proportion[0]) * image.height_px / image.width_px)
        note += f" The stretched picture needs pixel aspect {image.pixel_aspect:.6g} there."
    return HandOver(width, height, image, False, note)
