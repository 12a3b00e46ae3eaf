"""Proof: by how many pixels the camera that arrived differs from the one meant, on every frame.

Test points (docs/conventions.md, Proof): the landmarks, and a 9 x 5 grid over the image at four depths: the focus distance,
near and far depths that bracket the landmarks, and one near depth that follows from the camera's own motion,
whatever the lens is focused on. All are taken from the camera meant, so that a point is always somewhere a
viewer could look. A proof says how many of the frames owed it rests on, and what else did not arrive as meant.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection
from anaxis.core.camera.track import Track
from anaxis.core.typing import Bools, Floats, Ints

GRID_COLUMNS, GRID_ROWS = 9, 5
GRADES: tuple[tuple[str, float], ...] = (("exact", 0.01), ("tight", 0.1), ("visible", 1.0))
# Landmarks further out than this share of the image beside it are not tested: near the plane of
# the camera a projection runs to infinity and says nothing about the picture.
_MARGIN = 0.5
# Frames are measured some at a time, as many as lie in a processor's own memory.
_CHUNK_POINTS = 100_000
GRID_DEPTHS = 4
# The near depth is so many sizes of the camera's own motion, within these bounds: a shift of the camera shows there.
_MOTIONS, _FURTHEST_M = 3.0, 100.0
# It is no nearer than twice the near plane, and than this where none is stated; a camera that does not move tells nothing of its
# scene's size.
_PLANES, _UNSTATED_M, _STILL_M, _CLOSEST_M, _MOVES_M = 2.0, 0.1, 1.0, 0.01, 1e-3


class _Points(NamedTuple):
    """``world_m`` (n, 3, m), or (1, 3, m) where they stand; the pixels meant (n, 2, m); which count (n, m), all where None."""

    world_m: Floats
    pixels: Floats
    counts: Bools | None

    def select_frames(self, frames: Ints) -> _Points:
        world = self.world_m if len(self.world_m) == 1 else self.world_m[frames]
        return _Points(world, self.pixels[frames], None if self.counts is None else self.counts[frames])


@dataclass(frozen=True, eq=False)
class TestPoints:
    """Where a camera is looked at on every frame: the landmarks, and the grid."""

    __test__ = False  # not a test class, whatever its name makes a test runner think
    groups: tuple[_Points, ...]

    def select_frames(self, frames: Ints) -> TestPoints:
        return TestPoints(tuple(g.select_frames(frames) for g in self.groups))

    def scaled(self, factor: float) -> TestPoints:
        """The same pixels in a world so many times as large."""
        return TestPoints(tuple(g._replace(world_m=g.world_m * factor) for g in self.groups))


class Difference(NamedTuple):
    """Something beside the picture that is not there as meant; ``matters`` where it makes the camera another one."""

    what: str
    meant: str
    arrived: str
    matters: bool

    @property
    def sentence(self) -> str:
        return f"{self.what}: {self.meant} meant, {self.arrived}"


@dataclass(frozen=True, eq=False)
class Proof:
    """``deviation_px`` (n,) the largest distance at each frame; ``median_px`` over the frames.

    ``missing`` (k,) are expected frames that did not arrive: those of the camera, whose deviation is that of whatever stands
    there, and those it never had (:func:`owing`).
    ``between_px`` and ``between_frame`` are the worst between frames, where that was looked at; ``plate_px`` and
    ``plate_frame`` the worst in the plate as shot, where the camera has a distortion.
    """

    frames: Floats
    deviation_px: Floats
    max_px: float
    worst_frame: float
    median_px: float
    grade: str
    test_points: int
    missing: Floats = field(default_factory=lambda: np.zeros(0))
    differences: tuple[Difference, ...] = ()
    between_px: float | None = None
    between_frame: float | None = None
    plate_px: float | None = None
    plate_frame: float | None = None

    @property
    def owed(self) -> int:
        return len(np.union1d(self.frames, self.missing))

    @property
    def compared(self) -> int:
        """The number of expected frames that arrived."""
        return self.owed - len(self.missing)

    def within(self, tolerance_px: float) -> bool:
        """Whether all frames arrived, none further off than that, in the plate neither, and nothing else is another."""
        other = any(d.matters for d in self.differences)
        return max(self.max_px, self.plate_px or 0.0) <= tolerance_px and not len(self.missing) and not other


def owing(proof: Proof, first: float, last: float) -> Proof:
    """The proof where the shot owes every whole frame from ``first`` to ``last``, whatever the camera has."""
    never = np.setdiff1d(np.arange(first, last + 1), np.round(proof.frames, 4))
    return replace(proof, missing=np.union1d(proof.missing, never))


def grade_of(max_px: float) -> str:
    """exact (<= 0.01 px), tight (<= 0.1), visible (<= 1) or off."""
    return next((name for name, limit in GRADES if max_px <= limit), "off")


def grid_pixels(image: Image) -> Floats:
    """The 9 x 5 grid over the image, borders included, (45, 2)."""
    x = np.linspace(0.0, image.width_px, GRID_COLUMNS)
    y = np.linspace(0.0, image.height_px, GRID_ROWS)
    return np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)


def grid_depths_m(track: Track, meant: Projection, landmarks_m: Floats, motion_m: float | None = None) -> Floats:
    """Focus, near and far depth of the grid on every frame, and the near depth of the motion, (n, 4) metres.

    Without a focus distance the middle of the landmarks' depths stands for it; without landmarks
    in front of the camera, near and far lie at half and ten times the focus; the far one lies at ten times the near
    depth of the motion at least. ``motion_m`` is the size of the whole
    camera's motion, that of ``track`` where None.
    """
    focus = np.where(track.lens.focus_m > 0, track.lens.focus_m, np.nan)
    near = far = np.full(len(track), np.nan)
    if landmarks_m.shape[1]:
        depth = meant.depths_m(landmarks_m)
        ahead = (depth > 1e-3) & (depth < np.inf)
        seen = ahead.any(axis=1)
        near = np.where(seen, np.where(ahead, depth, np.inf).min(axis=1) * 0.9, np.nan)
        far = np.where(seen, np.where(ahead, depth, 0.0).max(axis=1) * 1.1, np.nan)
    focus = np.where(np.isnan(focus), np.sqrt(near * far), focus)
    focus = np.where(np.isnan(focus), 5.0, focus)
    near = np.where(np.isnan(near), focus / 2, near)
    far = np.where(np.isnan(far), focus * 10, far)
    size = motion_size_m(track) if motion_m is None else motion_m
    plane = (
        np.where(track.lens.near_m > 0, _PLANES * track.lens.near_m, _UNSTATED_M)
        if size > _MOVES_M
        else np.full(len(track), _STILL_M)
    )
    own = np.clip(_MOTIONS * size, np.clip(plane, _CLOSEST_M, _STILL_M), _FURTHEST_M)
    # An error of place and one of rotation may cancel at one depth; they never do at a near and a far one.
    return np.stack([focus, near, np.maximum(far, 10 * own), own], axis=1)


def motion_size_m(track: Track) -> float:
    """The diagonal of the box that the camera moves in."""
    return float(np.linalg.norm(np.ptp(track.position_m, axis=0)))


def make_test_points(track: Track, meant: Projection, landmarks_m: Floats, motion_m: float | None = None) -> TestPoints:
    """Test points of every frame. ``landmarks_m`` is (1, l, 3) or (n, l, 3), l may be 0; see :func:`grid_depths_m`."""
    image = meant.image
    grid = grid_pixels(image)
    depths = grid_depths_m(track, meant, landmarks_m, motion_m)
    pixels = np.tile(grid, (depths.shape[1], 1)).T
    world = meant.rows_from(pixels, np.repeat(depths, len(grid), axis=1))
    groups = [_Points(world, np.broadcast_to(pixels, (len(track), *pixels.shape)), None)]
    if landmarks_m.shape[1]:
        marks = np.swapaxes(landmarks_m, 1, 2)
        seen = meant.rows(marks)
        inside = seen[:, 2] > 1e-3
        for row, size in zip((seen[:, 0], seen[:, 1]), (image.width_px, image.height_px), strict=True):
            inside &= (row >= -_MARGIN * size) & (row <= (1 + _MARGIN) * size)
        groups.append(_Points(marks, seen[:, :2], inside))
    return TestPoints(tuple(groups))


def deviations_px(points: TestPoints, arrived: Projection) -> Floats:
    """The largest distance per frame, (n,), between the pixels meant and those of ``arrived``.

    A point the arrived camera does not have in front of it counts as the image's diagonal.
    """
    lost = float(arrived.image.width_px**2 + arrived.image.height_px**2)
    worst = np.zeros(len(arrived))
    for group in points.groups:
        seen = arrived.rows(group.world_m)
        off = seen[:, :2]
        with np.errstate(invalid="ignore", over="ignore"):  # what a bent picture does not show lies nowhere
            off -= group.pixels
            off *= off
        squared = off[:, 0]
        squared += off[:, 1]
        squared = np.where((seen[:, 2] > 0) & (squared < np.inf), squared, lost)
        if group.counts is not None:
            squared *= group.counts
        np.maximum(worst, squared.max(axis=1), out=worst)
    return np.sqrt(worst)


def prove(track: Track, meant: Projection, arrived: Projection, landmarks_m: Floats) -> Proof:
    """Measure a camera that arrived against the one meant.

    Parameters:
        track: the camera meant, whose focus and motion say at which depths to look.
        meant, arrived: how the camera meant and the one that arrived see, in pixels of one image.
        landmarks_m: (1, l, 3) or (n, l, 3).
    """
    per_frame = landmarks_m.shape[1] + GRID_DEPTHS * GRID_COLUMNS * GRID_ROWS
    size = motion_size_m(track)
    step = max(1, _CHUNK_POINTS // per_frame)
    parts = []
    for start in range(0, len(track), step):  # a chunk is dozens of frames or more
        cut = slice(start, start + step)
        part = track.select_frames(np.arange(len(track))[cut])
        marks = landmarks_m if len(landmarks_m) == 1 else landmarks_m[cut]
        points = make_test_points(part, meant.select_frames(cut), marks, size)
        parts.append(deviations_px(points, arrived.select_frames(cut)))
    return proof_of(track.frames, np.concatenate(parts), per_frame)


def proof_of(frames: Floats, deviation: Floats, test_points: int) -> Proof:
    """A proof from the deviation (n,) on the frames (n,)."""
    worst = int(np.argmax(deviation))
    return Proof(
        frames=frames,
        deviation_px=deviation,
        max_px=float(deviation[worst]),
        worst_frame=float(frames[worst]),
        median_px=float(np.median(deviation)),
        grade=grade_of(float(deviation[worst])),
        test_points=test_points,
    )
