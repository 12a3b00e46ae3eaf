"""Views from a package's own position and rotation: its camera's axes spelled out as vectors in its world."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import scipy

from anaxis.core.camera.channels import BESIDE
from anaxis.core.camera.lens import Image
from anaxis.core.typing import Floats
from anaxis.packages.model import Axes
from anaxis.standin.views import FileViews, window_of


def _axes_rows(axes: Axes) -> Floats:
    """Columns: where right, up and back point, spelled out from their names."""
    unit = {"X": (1.0, 0.0, 0.0), "Y": (0.0, 1.0, 0.0), "Z": (0.0, 0.0, 1.0)}
    named = (axes.right, axes.up, axes.back)
    return np.stack([np.array(unit[n[1]]) * (1.0 if n[0] == "+" else -1.0) for n in named], axis=1)


def own_views(
    name: str, frames: Floats, rate: Fraction, position: Floats, rotation: Floats, lens: dict[str, Floats], axes: Axes,
    world: Axes, unit: float, image: Image,
) -> FileViews:  # fmt: skip
    """Views from a package's own position (n, 3), in units of ``unit`` metres, and rotation (n, 3, 3): its camera's axes, as vectors
    in its world. ``lens`` holds what :func:`window_of` asks for, (n,) or (1,) each, and may hold focus_m, near_m, far_m and fstop."""
    local = _axes_rows(axes)
    right, up, ahead = (rotation @ local[:, 0], rotation @ local[:, 1], rotation @ -local[:, 2])
    rows = np.stack([right, up, ahead], axis=1)
    view = np.concatenate([rows, -np.sum(rows * position[:, None, :], axis=2)[:, :, None]], axis=2)
    pose = np.tile(np.eye(4), (len(frames), 1, 1))
    pose[:, :3, :3] = np.stack([right, up, -ahead], axis=2)
    pose[:, :3, 3] = position
    spread = {k: np.broadcast_to(v, frames.shape) for k, v in lens.items()}
    others: dict[str, Floats] = {k: spread[k] for k in ("squeeze", *BESIDE) if k in spread}
    placed = _axes_rows(world)
    top = pose.copy()
    top[:, :3, :3] = rotation
    return FileViews(
        name,
        frames,
        rate,
        view,
        window_of(spread),
        np.array(spread["focal_mm"]),
        others,
        placed,
        unit,
        image,
        pose[:, :3],
        top,
    )


def turned(angles_deg: Floats, order: str) -> Floats:
    """Rotations (n, 3, 3) from plain angles about x, y, z (n, 3), turned in ``order`` about fixed axes."""
    places = ["XYZ".index(a) for a in order]
    return np.asarray(
        scipy.spatial.transform.Rotation.from_euler(order.lower(), angles_deg[:, places], degrees=True).as_matrix()
    )
