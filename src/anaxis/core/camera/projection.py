"""From world space to pixels.

A camera with its lens and image is, per frame, one (3, 4) matrix that takes a point (x, y, z, 1)
in metres to (x_px d, y_px d, d), where d is the depth in front of the camera in metres.
"""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.typing import Floats, FloatsLike


def pixel_matrices(track: Track, image: Image, fit: str) -> Floats:
    """World to homogeneous pixels for every frame, (n, 3, 4) (DESIGN section 3, Lens)."""
    lens = track.lens
    used = lens.used(image, fit)
    n = len(track)
    k = np.zeros((n, 3, 3))
    k[:, 0, 0] = image.width_px * lens.focal_mm / used.width_mm
    k[:, 0, 2] = image.width_px * (0.5 - lens.offset_x_mm / used.width_mm)
    k[:, 1, 1] = -image.height_px * lens.focal_mm / used.height_mm
    k[:, 1, 2] = image.height_px * (0.5 + lens.offset_y_mm / used.height_mm)
    k[:, 2, 2] = 1.0
    # Camera space with the depth (-z) as its third row.
    view = np.swapaxes(track.rotation, 1, 2).copy()
    view[:, 2] *= -1.0
    shift = -np.einsum("nij,nj->ni", view, track.position_m)
    return k @ np.concatenate([view, shift[:, :, None]], axis=2)


def project(matrices: Floats, points_m: FloatsLike) -> tuple[Floats, Floats]:
    """Project points (m, 3) or (n, m, 3) by matrices (n, 3, 4).

    Returns:
        pixels (n, m, 2) and depths (n, m) in metres; pixels of points at depth 0 are not finite,
        and those of points behind the camera (depth < 0) have no meaning.
    """
    points = np.asarray(points_m, dtype=np.float64)
    if points.ndim == 2:
        points = points[None]
    homogeneous = points @ np.swapaxes(matrices[:, :, :3], 1, 2) + matrices[:, None, :, 3]
    depth = homogeneous[..., 2]
    with np.errstate(divide="ignore", invalid="ignore"):
        return homogeneous[..., :2] / depth[..., None], depth


def unproject(matrices: Floats, pixels: Floats, depths_m: Floats) -> Floats:
    """World points (n, m, 3) seen at ``pixels`` (m, 2) at the depths (n, m)."""
    rays = np.concatenate([pixels, np.ones((len(pixels), 1))], axis=1)[None] * depths_m[..., None]
    inverse = np.linalg.inv(matrices[:, :, :3])
    return (rays - matrices[:, None, :, 3]) @ np.swapaxes(inverse, 1, 2)
