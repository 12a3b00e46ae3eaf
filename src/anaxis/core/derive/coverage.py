"""How much of a shot projection cameras cover, on the surfaces of its set: what share of what the shot camera sees lies
inside a projection's picture, is not hidden and faces it, and how many of its pixels fall on one of the render's.

Rays are cast by whoever is handed in (:class:`Caster`); here is the arithmetic. A pixel of a pinhole camera with focal
lengths f_x, f_y (pixels) takes up ``f_x f_y |n . p| / z^3`` of an area's pixels, for the unit normal n and the place p of
the area in camera space, at the depth z: the Jacobian of x = f X/Z.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations
from typing import NamedTuple, Protocol

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.typing import Bools, Floats, Ints

# Frames of the shot that are looked at, frames that are tried as projections, and rays a picture.
SHOT_FRAMES, TRIED_FRAMES, COLUMNS = 40, 24, 48
# A point that a ray from a projection misses by less than this share of its way is the one it hits.
_SAME_POINT = 2e-4
SEEN, OUTSIDE, TURNED_AWAY, HIDDEN = range(4)
WHY = ("covered", "outside the projection", "facing away", "hidden")


class Hits(NamedTuple):
    """Where rays hit first: distances (m,) along unit directions, infinite where nothing is hit, and unit normals (m, 3)."""

    away_m: Floats
    normals: Floats


class Caster(Protocol):
    """Casts rays against a set's triangles."""

    def __call__(self, origin_m: Floats, directions: Floats) -> Hits:
        """From one origin (3,) along unit directions (m, 3)."""
        ...


class SeenSurfaces(NamedTuple):
    """What the shot camera sees of the set, by rays through ``pixels`` (m, 2) on the frames at ``places`` (k,): where
    (k, m, 3), not a number where nothing is hit; its normal; how many of the frame's pixels an area there takes up."""

    places: Ints
    pixels: Floats
    points_m: Floats
    normals: Floats
    px_an_area: Floats

    @property
    def hit(self) -> Bools:
        return np.asarray(np.isfinite(self.points_m[..., 0]))


class Cover(NamedTuple):
    """For the points of a :class:`Seen`: ``why`` (k, m) each is covered or not, one of SEEN, OUTSIDE, TURNED_AWAY,
    HIDDEN, and -1 where nothing is seen; ``density`` (k, m) the projection's pixels a pixel of the render, along a side."""

    why: Ints
    density: Floats

    @property
    def covered(self) -> Bools:
        return np.asarray(self.why == SEEN)


def seen_of(track: Track, image: Image, fit: str, cast: Caster, places: Ints | None = None) -> SeenSurfaces:
    """Cast the shot camera's rays on some of its frames, evenly spread where ``places`` (k,) does not say."""
    at = spread(len(track), SHOT_FRAMES) if places is None else places
    some = track.select_frames(at)
    projection = projection_of(some, image, fit)
    pixels = ray_pixels(image)
    ahead = projection.unproject(pixels, np.ones((len(at), len(pixels)))) - some.position_m[:, None, :]
    length = np.linalg.norm(ahead, axis=2, keepdims=True)
    ahead = ahead / length
    points, normals = np.full(ahead.shape, np.nan), np.zeros(ahead.shape)
    for i in range(len(at)):
        hits = cast(some.position_m[i], ahead[i])
        found = np.isfinite(hits.away_m)
        points[i, found] = some.position_m[i] + ahead[i, found] * hits.away_m[found, None]
        # Seen from its other side, a surface has the other normal.
        facing = np.sum(hits.normals * ahead[i], axis=1, keepdims=True)
        normals[i] = np.where(facing > 0, -hits.normals, hits.normals)
    if not np.isfinite(points).any():
        raise BadInput(
            "The shot camera sees no surface of the set on any frame: check the position of the set on Place."
        )
    return SeenSurfaces(at, pixels, points, normals, pixels_an_area(projection, some.position_m, points, normals))


def spread(count: int, most: int) -> Ints:
    """At most ``most`` of ``count`` places, first and last among them."""
    return np.unique(np.round(np.linspace(0, count - 1, min(count, most))).astype(np.int64))


def ray_pixels(image: Image, columns: int = COLUMNS) -> Floats:
    """The middles of a grid of equal cells over a picture, (m, 2)."""
    rows = max(2, round(columns / image.aspect))
    x, y = (np.arange(columns) + 0.5) / columns * image.width_px, (np.arange(rows) + 0.5) / rows * image.height_px
    return np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)


def pixels_an_area(projection: Projection, position_m: Floats, points: Floats, normals: Floats) -> Floats:
    """How many pixels a square metre of a surface takes up, (n, m), for points and normals (n, m, 3)."""
    matrices = projection.matrices[:, :, :3]
    depth = projection.depths_m(points)
    # The determinant of the pinhole's matrix is f_x f_y; |n . p| does not ask in which axes.
    scale = np.abs(np.linalg.det(matrices))[:, None]
    facing = np.abs(np.sum((points - position_m[:, None, :]) * normals, axis=2))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(scale * facing / np.abs(depth) ** 3)


def cover_of(seen: SeenSurfaces, held: Track, image: Image, fit: str, cast: Caster) -> Cover:
    """How a projection camera (its first frame) covers what was seen."""
    one = held.select_frames(np.array([0]))
    projection, place = projection_of(one, image, fit), one.position_m[0]
    hit = seen.hit
    points, normals = seen.points_m[hit], seen.normals[hit]
    pixels, depth = (a[0] for a in projection.project(points))
    why = np.full(len(points), SEEN)
    inside = (depth > 1e-6) & (pixels >= 0).all(axis=1) & (pixels <= [image.width_px, image.height_px]).all(axis=1)
    towards = points - place
    away = np.linalg.norm(towards, axis=1)
    faces = np.sum(normals * towards, axis=1) < 0
    with np.errstate(divide="ignore", invalid="ignore"):
        first = cast(place, towards / away[:, None]).away_m
    open_way = first >= away * (1 - _SAME_POINT)
    why[~open_way] = HIDDEN
    why[~faces] = TURNED_AWAY
    why[~inside] = OUTSIDE
    area = pixels_an_area(projection, one.position_m, points[None], normals[None])[0]
    with np.errstate(divide="ignore", invalid="ignore"):
        density = np.sqrt(area / seen.px_an_area[hit])
    every, dense = np.full(hit.shape, -1), np.full(hit.shape, np.nan)
    every[hit] = why
    dense[hit] = np.where(why == SEEN, density, np.nan)
    return Cover(every, dense)


def shares(seen: SeenSurfaces, covered: Bools) -> Floats:
    """What share of what is seen of the set is covered, on each of the frames, (k,); not a number where nothing is seen."""
    hit = seen.hit
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray((covered & hit).sum(axis=1) / hit.sum(axis=1))


class Proposal(NamedTuple):
    """Places among the tried frames that together cover most, and what share of the shot that is."""

    tried: tuple[int, ...]
    share: float


def best_of(seen: SeenSurfaces, covers: Sequence[Cover], most: int = 3) -> list[Proposal]:
    """The best one of the tried projections, the best two, the best three: all sets of them are looked at."""
    hit = seen.hit
    weight = 1.0 / np.maximum(hit.sum(axis=1, keepdims=True), 1)  # every frame counts as much
    weight = np.broadcast_to(weight, hit.shape)[hit] / max(1, int(hit.any(axis=1).sum()))
    each = np.stack([c.covered[hit] for c in covers])
    out = []
    for size in range(1, min(most, len(covers)) + 1):
        best: tuple[float, tuple[int, ...]] = (-1.0, ())
        for chosen in combinations(range(len(covers)), size):
            share = float(weight @ each[list(chosen)].any(axis=0))
            if share > best[0] + 1e-12:
                best = (share, chosen)
        out.append(Proposal(best[1], best[0]))
    return out
