"""A polygon mesh as a file holds it: faces, point counts and their order stay."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from anaxis.core.typing import Floats, Ints


def _no_frames() -> Floats:
    return np.zeros(0)


@dataclass(frozen=True, eq=False)
class Mesh:
    """``points`` (1, p, 3) in its node's own space, or (k, p, 3) on its ``frames`` (k,) where it deforms; ``counts`` (f,) corners of
    each face, and ``corners`` (sum of counts,) their point indices, face after face."""

    points: Floats
    counts: Ints
    corners: Ints
    frames: Floats = field(default_factory=_no_frames)

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
        return replace(self, points=self.points[:, used], corners=corners.reshape(-1).astype(np.int64))


def fans(counts: Ints, corners: Ints) -> Ints:
    """Faces as fans of triangles: point indices (t, 3)."""
    each = counts - 2
    first = np.repeat(np.cumsum(counts) - counts, each)
    along = np.arange(int(each.sum())) - np.repeat(np.cumsum(each) - each, each)
    return np.asarray(corners[np.stack([first, first + along + 1, first + along + 2], axis=1)])


def one_mesh(parts: list[Mesh]) -> Mesh:
    """Several still meshes as one, their points one after another."""
    starts = np.cumsum([0, *(m.points.shape[1] for m in parts)])
    return Mesh(
        np.concatenate([m.points for m in parts], axis=1),
        np.concatenate([m.counts for m in parts]),
        np.concatenate([m.corners + start for m, start in zip(parts, starts[:-1].tolist(), strict=True)]),
    )
