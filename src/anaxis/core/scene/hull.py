"""The outermost points of a piece of the set: as much of it as a camera that frames it needs to know."""

from __future__ import annotations

import numpy as np
import scipy

from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.surroundings import placed_m
from anaxis.core.typing import Floats

_MOST = 400


def hull_points(points: Floats) -> Floats:
    """The corners (k, 3) of the convex hull of points (m, 3); those of their box where they are flat or too many."""
    unique = np.unique(points.reshape(-1, 3), axis=0)
    if len(unique) <= 8:
        return unique
    try:
        corners = unique[scipy.spatial.ConvexHull(unique).vertices]
    except scipy.spatial.QhullError:  # all in a plane, or on a line
        corners = unique
    return corners if len(corners) <= _MOST else _box(unique)


def _box(points: Floats) -> Floats:
    low, high = points.min(axis=0), points.max(axis=0)
    return np.stack(np.meshgrid(*zip(low, high, strict=True)), axis=-1).reshape(-1, 3)


def pieces_m(scene: Scene, names: tuple[str, ...], frames: Floats) -> dict[str, Floats]:
    """The hull of each named piece of a scene's set on the frames (n,): (n, k, 3), or (1, k, 3) where it stands still."""
    out: dict[str, Floats] = {}
    for node in scene.nodes:
        if node.name in names and node.name not in out and node.segments is not None and len(node.segments):
            placed = placed_m(scene, node, hull_points(node.segments), frames)
            if np.isfinite(placed).all():
                out[node.name] = placed
    return out
