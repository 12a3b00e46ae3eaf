"""A distortion drawn to scale: a grid as shot over that of a pinhole, displacement as contours, where it folds over.

With the render that holds the plate, and what of the plate would find nothing without it.
"""

from __future__ import annotations

import numpy as np
from contourpy import contour_generator
from markupsafe import Markup

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import Overscan
from anaxis.core.camera.plate.window import Window, border_pixels
from anaxis.core.typing import Floats
from anaxis.web.drawings.svg import drawing, drawn

_WIDTH, _MARGIN_SHARE, _LINES, _ALONG = 372.0, 0.07, (9, 6), 48
# A fold is looked for along so many directions, out to so many times the plate's corner.
_DIRECTIONS, _STEPS, _OUT = 96, 400, 3.0
_LEVELS, _FINE = 4, (81, 61)
# What a fit leaves is drawn as large as that where it is most; less than a twentieth of a pixel is not made to look like much.
_LARGEST_RESIDUAL, _LEAST_SHOWN_PX = 9.0, 0.05


class _Paper:
    """Pixels of the plate to places on the drawing, as the picture is seen."""

    def __init__(self, image: Image, render: Overscan | None) -> None:
        width, height = image.width_px, image.height_px
        left, right = (0.0, float(width)) if render is None else (render.x_px, render.x_px + render.image.width_px)
        top, bottom = (0.0, float(height)) if render is None else (render.y_px, render.y_px + render.image.height_px)
        wide = (max(right, width) - min(left, 0)) * (1 + 2 * _MARGIN_SHARE)
        self.scale = np.array([_WIDTH / wide, _WIDTH / wide / image.pixel_aspect])
        self.origin = np.array(
            [min(left, 0) - wide * _MARGIN_SHARE, min(top, 0) - wide * _MARGIN_SHARE * image.pixel_aspect]
        )
        self.height = float(
            (max(bottom, height) - min(top, 0) + 2 * wide * _MARGIN_SHARE * image.pixel_aspect) * self.scale[1]
        )

    def put(self, pixels: Floats) -> Floats:
        return np.asarray((pixels - self.origin) * self.scale)

    def box(self, x: float, y: float, width: float, height: float) -> list[float]:
        return [*self.put(np.array([x, y])).tolist(), *(np.array([width, height]) * self.scale).tolist()]


@drawing
def distortion_svg(
    distortion: Distortion,
    plate: Window,
    image: Image,
    render: Overscan | None,
    residuals: tuple[Floats, Floats] | None = None,
) -> Markup:
    """Of one frame. ``residuals`` are places in the plate (m, 2) and what a fitted model leaves there in px (m,)."""
    paper = _Paper(image, render)
    straight = _grid(image)
    curved = [_finite(paper.put(_bent(distortion, plate, image, line))) for line in straight]
    border = border_pixels(image, 64)
    ordered = np.concatenate([border[:65], border[195:], border[65:130][::-1], border[130:195][::-1]])
    empty = _finite(paper.put(_bent(distortion, plate, image, ordered)))
    levels = _contours(distortion, plate, image)
    fold = fold_of(distortion, plate, image)
    return drawn(
        "distortion",
        width=_WIDTH, height=paper.height, said="A grid as shot over the undistorted grid",
        plate=paper.box(0, 0, image.width_px, image.height_px),
        render=None if render is None else paper.box(render.x_px, render.y_px, render.image.width_px, render.image.height_px),
        straight=[paper.put(line) for line in straight], curved=[c for c in curved if len(c)], empty=empty if len(empty) > 3 else None,
        contours=[
            {"lines": [paper.put(c) for c in lines], "text": f"{level:g} px", "at": _label(paper, lines, k)} for k, (level, lines) in enumerate(levels)
        ],
        fold=None if fold is None else paper.put(fold), residuals=_residuals(paper, residuals),
    )  # fmt: skip


def fold_of(distortion: Distortion, plate: Window, image: Image) -> Floats | None:
    """Where the map folds over, as pixels of the pinhole picture (n, 2); None where it does nowhere near."""
    corner = float(np.hypot(np.abs([plate.left, plate.right]).max(), np.abs([plate.bottom, plate.top]).max()))
    angles = np.linspace(0, 2 * np.pi, _DIRECTIONS + 1)
    radii = np.linspace(0, _OUT * corner, _STEPS)
    rays = np.stack([np.cos(angles)[:, None] * radii, np.sin(angles)[:, None] * radii], axis=-1).reshape(1, -1, 2)
    rays = rays + distortion.centre(1)
    with np.errstate(all="ignore"):
        folded = ~(distortion.bend(rays[..., 0], rays[..., 1]).determinant.reshape(_DIRECTIONS + 1, _STEPS) > 0)
    if not folded.any(axis=1).all():
        return None
    at = rays.reshape(_DIRECTIONS + 1, _STEPS, 2)[np.arange(_DIRECTIONS + 1), folded.argmax(axis=1)]
    return plate.pixels(at[None], image)[0]


def fold_radius(distortion: Distortion, plate: Window, image: Image) -> tuple[float, float] | None:
    """The smallest radius at which it folds over, in tangents of the pinhole picture, and as a share of the way to the corner."""
    fold = fold_of(distortion, plate, image)
    if fold is None:
        return None
    radius = float(np.linalg.norm(plate.tangents(fold, image)[0] - distortion.centre(1)[0], axis=-1).min())
    corners = plate.tangents(
        np.array([[0, 0], [image.width_px, 0], [0, image.height_px], [image.width_px, image.height_px]]), image
    )
    return radius, radius / float(np.linalg.norm(corners[0] - distortion.centre(1)[0], axis=-1).max())


def largest_displacement_px(distortion: Distortion, plate: Window, image: Image) -> float:
    """How far the plate's border is moved at most."""
    border = border_pixels(image, 64)
    moved = np.linalg.norm(_bent(distortion, plate, image, border) - border, axis=-1)
    return float(np.nanmax(moved))


def _grid(image: Image) -> list[Floats]:
    across, down = (
        np.linspace(0, size, n + 1) for size, n in zip((image.width_px, image.height_px), _LINES, strict=True)
    )
    x, y = (np.linspace(0, size, _ALONG) for size in (image.width_px, image.height_px))
    rows = [np.stack([x, np.full_like(x, v)], axis=-1) for v in down]
    return [*rows, *(np.stack([np.full_like(y, v), y], axis=-1) for v in across)]


def _bent(distortion: Distortion, plate: Window, image: Image, pixels: Floats) -> Floats:
    tangents = plate.tangents(pixels, image)
    with np.errstate(all="ignore"):
        bent = plate.pixels(distortion.distort(tangents), image)[0]
        bent[~distortion.clear_of_folds(tangents)[0]] = np.nan
    return bent


def _finite(points: Floats) -> Floats:
    return points[np.isfinite(points).all(axis=-1) & (np.abs(points) < 5000).all(axis=-1)]


def _contours(distortion: Distortion, plate: Window, image: Image) -> list[tuple[float, list[Floats]]]:
    x, y = np.linspace(0, image.width_px, _FINE[0]), np.linspace(0, image.height_px, _FINE[1])
    pixels = np.stack(np.meshgrid(x, y), axis=-1)
    bent = _bent(distortion, plate, image, pixels.reshape(-1, 2)).reshape(pixels.shape)
    moved = np.ma.masked_invalid(np.linalg.norm(bent - pixels, axis=-1))
    most = float(moved.max()) if moved.count() else 0.0
    if not 1e-6 < most < 1e7:
        return []
    rough = most / (_LEVELS + 0.5)
    step = next(s for s in (m * 10.0 ** np.floor(np.log10(rough)) for m in (1, 2, 5, 10)) if s >= rough * 0.999)
    generator = contour_generator(x, y, moved)
    found = [(float(step * k), [np.asarray(c) for c in generator.lines(step * k)]) for k in range(1, _LEVELS + 2)]
    return [(level, lines) for level, lines in found if lines]


def _label(paper: _Paper, lines: list[Floats], place: int) -> list[float] | None:
    """On the longest line, right of the middle."""
    points = paper.put(max(lines, key=len)) - [_WIDTH / 2, paper.height / 2]
    # Each further out stands a little lower, so that none lies on another.
    wanted = np.radians(-32.0 + 24.0 * place)
    at = points[int(np.argmin(np.abs(np.arctan2(points[:, 1], points[:, 0]) - wanted)))] + [
        _WIDTH / 2,
        paper.height / 2,
    ]
    return [float(np.clip(at[0], 18, _WIDTH - 18)), float(np.clip(at[1] + 4, 10, paper.height - 4))]


def _residuals(paper: _Paper, residuals: tuple[Floats, Floats] | None) -> list[list[float]]:
    if residuals is None or not len(residuals[1]):
        return []
    most = max(float(residuals[1].max()), _LEAST_SHOWN_PX)
    return [
        [*at, r]
        for at, r in zip(
            paper.put(residuals[0]).tolist(), (_LARGEST_RESIDUAL * residuals[1] / most).tolist(), strict=True
        )
    ]
