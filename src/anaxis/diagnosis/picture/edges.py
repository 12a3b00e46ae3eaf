"""Landmarks found automatically: the set's lines, as a camera sees them, matched to the edges of a picture.

Chamfer matching: points along the projected lines are drawn to the nearest edge of the picture (H. G. Barrow and others, 1977),
with a distance beyond which a point says nothing, which shrinks from step to step; begun from every cause that is known, and
refined over pose and focal length.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import pinhole_px
from anaxis.core.typing import Bytes, Floats
from anaxis.diagnosis.picture.solve import Pinhole

_MOST_LINES, _STEP_PX, _MOST_POINTS = 4000, 5.0, 6000
# Distances beyond which a point says nothing, from the first step to the last, as shares of the picture's height.
_REACHES = (0.05, 0.025, 0.012, 0.006, 0.004)
_HOLDS = (3.0, 0.3, 0.01, 1e-5, 1e-9)
_ROUNDS, _REFINED, _NEAR_PX = 12, 8, 2.0
# Of the points that a picture should show so many must lie on its edges.
LEAST_ON_EDGES = 0.6
_NEAREST_M = 0.05


class Start(NamedTuple):
    """A camera that may have taken the picture: position (3,), rotation (3, 3) and lens."""

    position_m: Floats
    rotation: Floats
    lens: Pinhole


class Matched(NamedTuple):
    """The camera whose lines lie on the edges; ``off_px`` is their median distance, ``on_edges`` the share that lies on one."""

    start: Start
    off_px: float
    on_edges: float


def edges_of(picture: Bytes) -> Floats:
    """How far every pixel of a picture (h, w, 3) is from the nearest edge, (h, w)."""
    grey = cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY)
    blurred = cv2.GaussianBlur(grey, (0, 0), 1.0)
    level = float(np.median(blurred))
    found = cv2.Canny(blurred, max(10, 0.33 * level), max(30, 0.66 * level))
    return np.asarray(cv2.distanceTransform(255 - found, cv2.DIST_L2, 5), dtype=np.float64)


def matched(picture: Bytes, lines_m: Floats, starts: list[Start], image: Image) -> Matched | None:
    """The camera, near one of ``starts``, whose lines (k, 2, 3) lie on the picture's edges best; None where none does."""
    if not len(lines_m) or not starts:
        return None
    distance = edges_of(picture)
    lines = lines_m[:: max(1, len(lines_m) // _MOST_LINES)]
    reach = _REACHES[0] * image.height_px
    scored = []
    for start in starts:
        points = _points(lines, start, image)
        if len(points) >= 30:
            off = _sampled(distance, _projected(points, start, image))[0]
            scored.append((float(np.minimum(off, reach).mean()), start))
    best: Matched | None = None
    for _, start in sorted(scored, key=lambda s: s[0])[:_REFINED]:
        found = _refined(distance, lines, start, image)
        if found is not None and (
            best is None or found.on_edges - found.off_px / 20 > best.on_edges - best.off_px / 20
        ):
            best = found
    return best if best is not None and best.on_edges >= LEAST_ON_EDGES else None


def _refined(distance: Floats, lines: Floats, start: Start, image: Image) -> Matched | None:
    for share, hold in zip(_REACHES, _HOLDS, strict=True):
        reach = share * image.height_px
        for _ in range(_ROUNDS):
            points = _points(lines, start, image)
            if len(points) < 30:
                return None
            start, moved = _stepped(distance, points, start, image, reach, hold)
            if moved < 0.005:
                break
    off = _sampled(distance, _projected(_points(lines, start, image), start, image))[0]
    return Matched(start, float(np.median(off)), float(np.mean(off <= max(_NEAR_PX, image.height_px / 540))))


def _stepped(
    distance: Floats, points: Floats, start: Start, image: Image, reach: float, hold: float
) -> tuple[Start, float]:
    """One step of Gauss-Newton towards the edges, and by how many pixels the lines moved."""
    px = _projected(points, start, image)
    off, slope = _sampled(distance, px)
    weight = np.where(off < reach, (1 - (off / reach) ** 2) ** 2, 0.0)
    if np.count_nonzero(weight) < 20:
        return start, 0.0
    columns = []
    for i in range(7):
        moved = _moved(start, np.eye(7)[i] * 1e-5, points)
        columns.append((slope * (_projected(points, moved, image) - px)).sum(axis=1) / 1e-5)
    jacobian = np.stack(columns, axis=1)
    normal = jacobian.T @ (weight[:, None] * jacobian)
    # The focal length is held, much at first: lines far from their edges hardly tell it from the distance.
    normal += np.diag([1e-6, 1e-6, 1e-6, 1e-6, 1e-6, 1e-6, hold]) * np.trace(normal) / 7
    step = -np.linalg.solve(normal, jacobian.T @ (weight * off))
    after = _moved(start, np.clip(step, -0.1, 0.1), points)
    return after, float(np.abs(_projected(points, after, image) - px).mean())


def _moved(start: Start, step: Floats, points: Floats) -> Start:
    """A camera turned by the first three numbers, moved by the next three as shares of the distance, and zoomed by the last."""
    size = float(np.median(np.linalg.norm(points - start.position_m, axis=1)))
    turn = Rotation.from_rotvec(step[:3]).as_matrix()
    lens = start.lens._replace(focal_px=start.lens.focal_px * float(np.exp(step[6])))
    return Start(start.position_m + step[3:6] * size, turn @ start.rotation, lens)


def _points(lines: Floats, start: Start, image: Image) -> Floats:
    """Points along the lines that the camera sees, a few pixels apart, (p, 3)."""
    local = (lines - start.position_m) @ start.rotation
    depth = -local[..., 2]
    ahead = lines[(depth > _NEAREST_M).all(axis=1)]
    if not len(ahead):
        return np.zeros((0, 3))
    ends = _projected(ahead.reshape(-1, 3), start, image).reshape(-1, 2, 2)
    long = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    count = np.clip(long / _STEP_PX, 1, 400).astype(int)
    total = int(count.sum())
    if total > _MOST_POINTS:
        count = np.maximum(1, count * _MOST_POINTS // total)
    which = np.repeat(np.arange(len(ahead)), count)
    along = (np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count) + 0.5) / count[which]
    points = ahead[which, 0] + (ahead[which, 1] - ahead[which, 0]) * along[:, None]
    px = _projected(points, start, image)
    inside = ((px >= 0) & (px <= (image.width_px - 1, image.height_px - 1))).all(axis=1)
    return np.asarray(points[inside])


def _projected(points: Floats, start: Start, image: Image) -> Floats:
    return pinhole_px(points, start.position_m, start.rotation, start.lens.intrinsics(image))[0]


def _sampled(distance: Floats, px: Floats) -> tuple[Floats, Floats]:
    """Distances (p,) at places between pixels, and how they change, (p, 2). Pixels are counted from their corners."""
    h, w = distance.shape
    x, y = np.clip(px[:, 0] - 0.5, 0, w - 1.001), np.clip(px[:, 1] - 0.5, 0, h - 1.001)
    i, j = x.astype(int), y.astype(int)
    u, v = x - i, y - j
    a, b, c, d = distance[j, i], distance[j, i + 1], distance[j + 1, i], distance[j + 1, i + 1]
    value = a * (1 - u) * (1 - v) + b * u * (1 - v) + c * (1 - u) * v + d * u * v
    return value, np.stack([(b - a) * (1 - v) + (d - c) * v, (c - a) * (1 - u) + (d - b) * u], axis=1)


def corners_of(picture: Bytes, most: int = 1500) -> Floats:
    """Corners and crossings of a picture, which a placed landmark snaps to, (c, 2) px from the upper left."""
    grey = cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY)
    found = cv2.goodFeaturesToTrack(grey, most, 0.02, 4.0)
    if found is None:
        return np.zeros((0, 2))
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_MAX_ITER, 20, 0.02)
    exact = cv2.cornerSubPix(grey, np.ascontiguousarray(found, dtype=np.float32), (3, 3), (-1, -1), stop)
    return np.asarray(exact.reshape(-1, 2), dtype=np.float64) + 0.5


def starts_of(positions_m: Floats, rotations: Floats, intrinsics: Floats) -> Iterator[Start]:
    """Cameras as starts: positions (s, 3), rotations (s, 3, 3), intrinsics (s, 4)."""
    for position, rotation, lens in zip(positions_m, rotations, intrinsics, strict=True):
        yield Start(position, rotation, Pinhole(float(lens[0]), lens[2:4]))
