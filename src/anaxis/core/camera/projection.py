"""From world space to pixels, and back: what everything that draws, proves, compares or diagnoses asks.

Nothing else assumes how a camera sees. A pinhole camera is, per frame, one (3, 4) matrix that takes a point
(x, y, z, 1) in metres to (x_px d, y_px d, d), where d is the depth in front of the camera in metres. Behind it the lens
may bend the picture (:class:`Bend`): then pixels are those of the plate as shot.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.bend import Bend, bend_of
from anaxis.core.camera.plate.overscan import Overscan, no_overscan
from anaxis.core.camera.track import Lens, Track
from anaxis.core.typing import Floats, FloatsLike, Ints


@dataclass(frozen=True, eq=False)
class Projection:
    """Pose and window of a camera on every frame, for an image. ``matrices`` is (n, 3, 4), see above.

    With ``bend`` the matrices lead to its render and pixels are those of ``image``, its plate as shot.
    """

    matrices: Floats
    image: Image
    bend: Bend | None = None

    def __len__(self) -> int:
        return len(self.matrices)

    def select_frames(self, frames: Ints | slice) -> Projection:
        """The same camera on some of its frames."""
        return Projection(self.matrices[frames], self.image, self.bend and self.bend.select_frames(frames))

    def project(self, points_m: FloatsLike) -> tuple[Floats, Floats]:
        """Where points (m, 3) or (n, m, 3) are seen on every frame.

        Returns:
            pixels (n, m, 2) and depths (n, m) in metres; pixels of points at depth 0, and of those that a bent picture
            does not show, are not finite, and those of points behind the camera (depth < 0) have no meaning.
        """
        points = np.asarray(points_m, dtype=np.float64)
        seen = self.rows(np.swapaxes(points[None] if points.ndim == 2 else points, 1, 2))
        return np.swapaxes(seen[:, :2], 1, 2), seen[:, 2]

    def rows(self, points_m: Floats) -> Floats:
        """:meth:`project` coordinate by coordinate: points (1, 3, m) or (n, 3, m) to x px, y px and depth, (n, 3, m).

        Each coordinate lies in memory as one row, which is what many points want.
        """
        if len(points_m) == 1:
            seen = (self.matrices[:, :, :3].reshape(-1, 3) @ points_m[0]).reshape(len(self), 3, -1)
        else:
            seen = self.matrices[:, :, :3] @ points_m
        seen += self.matrices[:, :, 3:]
        with np.errstate(divide="ignore", invalid="ignore"):
            seen[:, :2] /= seen[:, 2:]
        if self.bend is not None:
            seen[:, :2] = np.swapaxes(self.bend.to_plate(np.swapaxes(seen[:, :2], 1, 2)), 1, 2)
        return seen

    def depths_m(self, points_m: Floats) -> Floats:
        """How far in front of the camera points (1, m, 3) or (n, m, 3) lie, (n, m); behind it below zero."""
        ahead = self.matrices[:, 2]
        if len(points_m) == 1:
            return ahead[:, :3] @ points_m[0].T + ahead[:, 3:]
        return np.einsum("nmj,nj->nm", points_m, ahead[:, :3]) + ahead[:, 3:]

    def unproject(self, pixels: Floats, depths_m: Floats) -> Floats:
        """World points (n, m, 3) seen at ``pixels`` (m, 2) at the depths (n, m)."""
        return np.swapaxes(self.rows_from(pixels.T, depths_m), 1, 2)

    def rows_from(self, pixels: Floats, depths_m: Floats) -> Floats:
        """:meth:`unproject` coordinate by coordinate: pixels (2, m) and depths (n, m) to points (n, 3, m)."""
        if self.bend is not None:
            plain = np.swapaxes(self.bend.from_plate(pixels.T[None]), 1, 2)
            rays = np.concatenate([plain, np.ones((len(plain), 1, plain.shape[2]))], axis=1) * depths_m[:, None]
        else:
            rays = np.concatenate([pixels, np.ones((1, pixels.shape[1]))]) * depths_m[:, None]
        rays -= self.matrices[:, :, 3:]
        return np.linalg.inv(self.matrices[:, :, :3]) @ rays

    def at_size(self, image: Image) -> Projection:
        """The whole picture on the whole of another image: the same camera in that image's pixels, without an overscan."""
        scale = np.array([image.width_px / self.image.width_px, image.height_px / self.image.height_px, 1.0])
        bend = self.bend and replace(self.bend, render=no_overscan(image))
        return Projection(self.matrices * scale[:, None], image, bend)

    def in_plate(self, render: Overscan) -> Projection:
        """A pinhole camera of a render, in the pixels of the plate within it."""
        moved = self.matrices.copy()
        moved[:, 0] += render.x_px * moved[:, 2]
        moved[:, 1] += render.y_px * moved[:, 2]
        return Projection(moved, render.plate)

    def shift_to(self, other: Projection) -> Floats:
        """The way from a pixel here to the one there, (n, 3, 4): takes (x_px d, y_px d, d, 1) to the other's."""
        whole = np.tile(np.eye(4), (len(self), 1, 1))
        whole[:, :3] = self.matrices
        return other.matrices @ np.linalg.inv(whole)


def intrinsics_px(lens: Lens, image: Image, fit: str) -> Floats:
    """Focal lengths across and down and the principal point from the image's upper left, (n, 4), in pixels of the image."""
    used = lens.used(image, fit)
    return np.stack(
        [
            image.width_px * lens.focal_mm / used.width_mm,
            image.height_px * lens.focal_mm / used.height_mm,
            image.width_px * (0.5 - lens.offset_x_mm / used.width_mm),
            image.height_px * (0.5 + lens.offset_y_mm / used.height_mm),
        ],
        axis=1,
    )


def pinhole_matrices(position_m: Floats, rotation: Floats, intrinsics: Floats) -> Floats:
    """Positions (n, 3), rotations (n, 3, 3) and ``intrinsics`` (n, 4), as :func:`intrinsics_px` gives them, as the matrices
    (n, 3, 4) of a :class:`Projection`."""
    fx, fy, cx, cy = intrinsics.T
    k = np.zeros((len(intrinsics), 3, 3))
    k[:, 0, 0], k[:, 0, 2] = fx, cx
    k[:, 1, 1], k[:, 1, 2] = -fy, cy
    k[:, 2, 2] = 1.0
    # Camera space with the depth (-z) as its third row.
    view = np.swapaxes(rotation, 1, 2).copy()
    view[:, 2] *= -1.0
    shift = -np.einsum("nij,nj->ni", view, position_m)
    return k @ np.concatenate([view, shift[:, :, None]], axis=2)


def pinhole_px(points_m: Floats, position_m: Floats, rotation: Floats, intrinsics: Floats) -> tuple[Floats, Floats]:
    """Where one pinhole camera sees points (m, 3): pixels (m, 2) from the upper left and depths (m,) in metres.

    For a search that tries thousands of cameras, each on a few points. The position is taken off before the rotation, which keeps
    all digits far from the origin. ``intrinsics`` (4,) as :func:`intrinsics_px` gives them; pixels as in :meth:`Projection.project`.
    """
    local = (points_m - position_m) @ rotation
    depth = -local[:, 2]
    px = np.empty((len(points_m), 2))
    with np.errstate(divide="ignore", invalid="ignore"):
        px[:, 0] = intrinsics[2] + intrinsics[0] * local[:, 0] / depth
        px[:, 1] = intrinsics[3] - intrinsics[1] * local[:, 1] / depth
    return px, depth


def projection_of(track: Track, image: Image, fit: str) -> Projection:
    """How a camera sees as a pinhole, its film back inscribed by ``fit`` (docs/conventions.md, Projection)."""
    intrinsics = intrinsics_px(track.lens, image, fit)
    return Projection(pinhole_matrices(track.position_m, track.rotation, intrinsics), image)


def projection_as_shot(track: Track, image: Image, fit: str) -> Projection:
    """How a camera sees the plate as shot: bent by its distortion where it has one.

    Raises BadInput where the distortion folds over inside the plate.
    """
    return replace(projection_of(track, image, fit), bend=bend_of(track, image, fit))
