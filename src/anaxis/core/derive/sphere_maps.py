"""The pair of ST maps between a framing camera's render and the sphere it stands in, and what they are off by.

*Out of the plate*: for every pixel of the render, where to fetch in the equirectangular plate. *Into the plate*: for
every pixel of the plate, where to fetch in the render. Both as docs/conventions.md says of ST maps.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import AT_ONCE, pixel_rows, window_of
from anaxis.core.camera.track import Track
from anaxis.core.derive.sphere import across_px, directions_of, pixels_of
from anaxis.core.typing import Floats, FloatsLike

# A pixel of the plate that the render does not show fetches here: outside of it, and far enough for any filter.
NOWHERE = -1.0
_ROUNDING = 1e-9
DIRECTIONS = ("out", "into")


class Sphere(NamedTuple):
    """A framing camera on its frames with its render's image and fit, and the plate: its image, and ``axes`` (n, 3, 3),
    how it is on every frame (the identity at world orientation)."""

    track: Track
    image: Image
    fit: str
    plate: Image
    axes: Floats

    def directions(self, pixels: Floats, at: int) -> Floats:
        """Directions (m, 3) in the plate's axes of pixels (m, 2) of the render, on the frame at a place."""
        window = window_of(self.track.lens, self.image, self.fit).select_frames(slice(at, at + 1))
        u, v = np.moveaxis(window.tangents(pixels, self.image)[0], -1, 0)
        rays = np.stack([u, v, np.full_like(u, -1.0)], axis=-1)
        return rays @ self._turn(at).T

    def in_plate(self, pixels: Floats, at: int) -> Floats:
        """Where pixels (m, 2) of the render lie in the plate, (m, 2)."""
        return pixels_of(self.directions(pixels, at), self.plate)

    def in_render(self, pixels: Floats, at: int) -> Floats:
        """Where pixels (m, 2) of the plate lie in the render, (m, 2); not a number behind the camera."""
        seen = directions_of(pixels, self.plate) @ self._turn(at)
        ahead = seen[:, 2] < -1e-6
        with np.errstate(divide="ignore", invalid="ignore"):
            tangents = np.where(ahead[:, None], seen[:, :2] / -seen[:, 2:], np.nan)
        window = window_of(self.track.lens, self.image, self.fit).select_frames(slice(at, at + 1))
        return window.pixels(tangents[None], self.image)[0]

    def _turn(self, at: int) -> Floats:
        """Camera to plate axes, (3, 3)."""
        return np.asarray(self.axes[at].T @ self.track.rotation[at])

    def map(self, direction: str, at: int) -> Floats:
        """One of the pair (``out`` or ``into``) on the frame at a place: (h, w, 2), rows from the top, t from the lower left."""
        if direction == "into":
            return self._into(at)
        out = np.empty((self.image.height_px, self.image.width_px, 2))
        for rows, centres in pixel_rows(self.image):
            out[rows] = self._st(self.in_plate(centres, at), self.plate).reshape(-1, self.image.width_px, 2)
        return out

    def _into(self, at: int) -> Floats:
        """The map into the plate: worked out where the render may reach, and nowhere elsewhere."""
        out = np.full((self.plate.height_px, self.plate.width_px, 2), NOWHERE)
        columns, rows = np.arange(self.plate.width_px) + 0.5, np.arange(self.plate.height_px) + 0.5
        lon, lat = 2 * np.pi * (columns / self.plate.width_px - 0.5), np.pi * (0.5 - rows / self.plate.height_px)
        ahead = -self._turn(at)[:, 2]
        # The cosine of the angle between a pixel's direction and the aim, one row after another.
        towards = np.outer(np.cos(lat), np.sin(lon) * ahead[0] - np.cos(lon) * ahead[2])
        towards += (np.sin(lat) * ahead[1])[:, None]
        window = window_of(self.track.lens, self.image, self.fit).select_frames(slice(at, at + 1))
        reach = [
            max(abs(float(a[0])), abs(float(b[0])))
            for a, b in ((window.left, window.right), (window.bottom, window.top))
        ]
        row, column = np.nonzero(towards > 1 / np.sqrt(1 + 1.01 * (reach[0] ** 2 + reach[1] ** 2)))
        for some in np.array_split(np.arange(len(row)), max(1, len(row) // AT_ONCE)):
            st = self._st(self.in_render(np.stack([columns[column[some]], rows[row[some]]], axis=1), at), self.image)
            with np.errstate(invalid="ignore"):
                seen = ((st >= -_ROUNDING) & (st <= 1 + _ROUNDING)).all(axis=1)
            st[~seen] = NOWHERE
            out[row[some], column[some]] = st
        return out

    def _st(self, pixels: Floats, within: Image) -> Floats:
        st = pixels / [within.width_px, within.height_px]
        st[:, 1] = 1.0 - st[:, 1]
        return np.asarray(st)

    @property
    def moves(self) -> bool:
        """Whether the maps are others on other frames."""
        turn = np.swapaxes(self.axes, 1, 2) @ self.track.rotation
        lens = self.track.lens
        return bool(len(turn) > 1 and (np.ptp(turn, axis=0).max() > 0 or np.ptp(lens.focal_mm) > 0))

    def fetched(self, direction: str) -> Image:
        """The picture that a map fetches in."""
        return self.plate if direction == "out" else self.image

    def written(self, direction: str) -> Image:
        """The picture that a map makes."""
        return self.image if direction == "out" else self.plate

    def goes_round(self, direction: str) -> bool:
        """Whether the picture that a map fetches in goes on at its other side."""
        return direction == "out"

    def leaves_empty(self, direction: str) -> bool:
        """Whether a map leaves pixels that fetch nothing."""
        return direction == "into"

    def at_world(self) -> Sphere:
        """The same, with the plate at world orientation: un-followed."""
        return self._replace(axes=np.broadcast_to(np.eye(3), self.axes.shape))

    def outline_px(self, count: int = 24) -> Floats:
        """The render's border in the plate on every frame, (n, 4 * count, 2), clockwise from the upper left."""
        w, h = self.image.width_px, self.image.height_px
        t = np.arange(count) / count
        sides = [(t * w, 0 * t), (0 * t + w, t * h), ((1 - t) * w, 0 * t + h), (0 * t, (1 - t) * h)]
        border = np.concatenate([np.stack(s, axis=1) for s in sides])
        window = window_of(self.track.lens, self.image, self.fit)
        tangents = window.tangents(border, self.image)
        rays = np.concatenate([tangents, np.full((*tangents.shape[:2], 1), -1.0)], axis=2)
        turn = np.swapaxes(self.axes, 1, 2) @ self.track.rotation
        return pixels_of(
            np.einsum("nij,nmj->nmi", turn, np.broadcast_to(rays, (len(turn), *rays.shape[1:]))), self.plate
        )


def carried_back_px(sphere: Sphere, most: int = 1024) -> float:
    """By how many pixels of the plate points of the render come back elsewhere through the map into it, on the first, a
    middle and the last frame; of a plate wider than ``most`` pixels a smaller one of the same sphere is looked at, whose pixels
    count as larger by as much."""
    width = min(sphere.plate.width_px, most)
    small = sphere._replace(plate=Image(width, width // 2))
    places = sorted({0, len(sphere.track) // 2, len(sphere.track) - 1})
    return max(map_error_px(small, small.map("into", at), at) for at in places)


def map_error_px(sphere: Sphere, into: FloatsLike, at: int, grid: tuple[int, int] = (33, 19)) -> float:
    """How far points of the render, carried into the plate by a map (h, w, 2) as it was written, lie from where they
    belong, in pixels of the plate at worst: the map is read between its pixels, where all of them around are in the render."""
    x, y = (
        np.linspace(0.02, 0.98, n) * size
        for n, size in zip(grid, (sphere.image.width_px, sphere.image.height_px), strict=True)
    )
    points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    there = sphere.in_plate(points, at)
    st = _between(into, there)
    back = np.stack([st[:, 0] * sphere.image.width_px, (1 - st[:, 1]) * sphere.image.height_px], axis=-1)
    known = np.isfinite(st).all(axis=1)
    return float(across_px(there[known], sphere.in_plate(back[known], at), sphere.plate).max(initial=0.0))


def _between(st: FloatsLike, pixels: Floats) -> Floats:
    """A plate's map (h, w, 2) at places (m, 2) between its pixels' middles: straight, round the seam; not a number beside
    a pixel that fetches nowhere."""
    st = np.where((st == NOWHERE).all(axis=-1, keepdims=True), np.nan, st)
    height, width = st.shape[:2]
    x, y = pixels[:, 0] - 0.5, np.clip(pixels[:, 1] - 0.5, 0, height - 1)
    left, top = np.floor(x).astype(np.int64), np.minimum(np.floor(y).astype(np.int64), height - 2)
    a, b = (x - left)[:, None], (y - top)[:, None]
    columns = left % width, (left + 1) % width
    upper, lower = ((1 - a) * st[row, columns[0]] + a * st[row, columns[1]] for row in (top, top + 1))
    return np.asarray((1 - b) * upper + b * lower)
