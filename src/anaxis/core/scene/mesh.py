"""A polygon mesh as a file holds it: faces, point counts and their order stay."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from anaxis.core.typing import Floats, Ints


def _no_frames() -> Floats:
    return np.zeros(0)


class Spread(NamedTuple):
    """Values over a mesh, (k, d): one row for each of its points, or for each corner of its faces."""

    values: Floats
    by_corner: bool

    def at_corners(self, corners: Ints) -> Floats:
        """The values at each corner, (c, d)."""
        return self.values if self.by_corner else self.values[corners]

    def at_points(self, corners: Ints, points: int) -> Floats | None:
        """The values at each of so many points, (p, d); None where the corners at a point do not agree."""
        if not self.by_corner:
            return self.values
        out = np.zeros((points, self.values.shape[1]))
        out[corners] = self.values
        return out if np.array_equal(out[corners], self.values) else None

    def fits(self, points: int, corners: int) -> bool:
        return len(self.values) == (corners if self.by_corner else points) and bool(np.isfinite(self.values).all())


@dataclass(frozen=True, eq=False)
class Mesh:
    """``points`` (1, p, 3) in its node's own space, or (k, p, 3) on its ``frames`` (k,) where it deforms; ``counts`` (f,) corners of
    each face, and ``corners`` (sum of counts,) their point indices, face after face, counter-clockwise seen from outside.
    ``normals`` (k, 3) and one set of ``texture`` coordinates (k, 2), t upward, where the file has them."""

    points: Floats
    counts: Ints
    corners: Ints
    frames: Floats = field(default_factory=_no_frames)
    normals: Spread | None = None
    texture: Spread | None = None

    @property
    def deforms(self) -> bool:
        return len(self.points) > 1

    def at(self, frames: Floats) -> Floats:
        """The points on some frames (n,): (n, p, 3), or (1, p, 3) where it does not deform. Held outside its own frames, and
        straight between them."""
        if not self.deforms:
            return self.points
        place = np.interp(frames, self.frames, np.arange(len(self.frames)))
        low = np.floor(place).astype(np.int64)
        high = np.minimum(low + 1, len(self.frames) - 1)
        share = (place - low)[:, None, None]
        return np.asarray((1 - share) * self.points[low] + share * self.points[high])

    def triangles(self) -> Ints:
        """The faces as fans of triangles: point indices (t, 3)."""
        return fans(self.counts, self.corners)

    def compact(self) -> Mesh:
        """Without the points that no face uses; the others keep their order."""
        used, corners = np.unique(self.corners, return_inverse=True)
        normals, texture = (
            s if s is None or s.by_corner else Spread(s.values[used], False) for s in (self.normals, self.texture)
        )
        return replace(
            self, points=self.points[:, used], corners=corners.reshape(-1).astype(np.int64), normals=normals, texture=texture
        )  # fmt: skip

    def with_surface(self, normals: Spread | None, texture: Spread | None) -> Mesh:
        """With normals and texture coordinates, each where there are as many as there must be."""
        count = (self.points.shape[1], len(self.corners))
        return replace(
            self, normals=normals if normals is not None and normals.fits(*count) else None,
            texture=texture if texture is not None and texture.fits(*count) else None,
        )  # fmt: skip

    def turned_over(self) -> Mesh:
        """The faces the other way round, for files that wind them so."""
        order = reversed_corners(self.counts)
        normals, texture = (
            Spread(s.values[order], True) if s is not None and s.by_corner else s for s in (self.normals, self.texture)
        )
        return replace(self, corners=self.corners[order], normals=normals, texture=texture)


def reversed_corners(counts: Ints) -> Ints:
    """Where each corner is once each face of ``counts`` (f,) corners is gone round the other way, (sum of counts,)."""
    ends = np.cumsum(counts)
    return np.asarray(np.repeat(2 * ends - counts - 1, counts) - np.arange(int(counts.sum())))


def fans(counts: Ints, corners: Ints) -> Ints:
    """Faces as fans of triangles: point indices (t, 3)."""
    each = counts - 2
    first = np.repeat(np.cumsum(counts) - counts, each)
    along = np.arange(int(each.sum())) - np.repeat(np.cumsum(each) - each, each)
    return np.asarray(corners[np.stack([first, first + along + 1, first + along + 2], axis=1)])


def one_mesh(parts: list[Mesh]) -> Mesh:
    """Several still meshes as one, their points one after another; what one of them lacks, the whole lacks."""
    starts = np.cumsum([0, *(m.points.shape[1] for m in parts)])
    return Mesh(
        np.concatenate([m.points for m in parts], axis=1),
        np.concatenate([m.counts for m in parts]),
        np.concatenate([m.corners + start for m, start in zip(parts, starts[:-1].tolist(), strict=True)]),
        normals=_one_spread([(m.normals, m) for m in parts]),
        texture=_one_spread([(m.texture, m) for m in parts]),
    )


def _one_spread(parts: list[tuple[Spread | None, Mesh]]) -> Spread | None:
    found = [(s, m) for s, m in parts if s is not None]
    if len(found) < len(parts):
        return None
    if not any(s.by_corner for s, _ in found):
        return Spread(np.concatenate([s.values for s, _ in found]), False)
    return Spread(np.concatenate([s.at_corners(m.corners) for s, m in found]), True)
