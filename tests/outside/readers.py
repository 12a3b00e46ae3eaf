"""What every outside reader is given and held against: a shot written for a package in the reader's own axes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.proved import Delivered
from anaxis.packages import find_profile
from ordinary import SHOTS, Array, Shot, pixels, points_ahead, smooth
from test_ordinary_shots import leaving

# Twelve cameras: everything but the two whose samples lie between frames or are too many for a browser.
CAMERAS = [n for n in SHOTS if n not in ("long", "subframes")]


def shot_of(name: str) -> Shot:
    return smooth(name="zoom") if name == "zoom" else SHOTS[name]()


def written(name: str, format_key: str, folder: Path) -> tuple[Shot, Delivered]:
    """A shot in a file with Y up in metres, which is what these readers take as it is."""
    shot = shot_of(name)
    return shot, deliver_all([leaving(shot)], find_profile("yup-rh-m"), format_key, folder)[0]


def seconds_of(shot: Shot, done: Delivered) -> Array:
    """When each frame comes in the file."""
    frames = done.outgoing.track.frames
    return np.asarray((frames - done.outgoing.zero_frame) / 24.0)


def off_px(shot: Shot, place: Array, turn: Array, tan_x: Array, aspect: float, at: Any = slice(None)) -> float:
    """Pixels between where the shot sees points ahead of it and where a camera (n, 3), (n, 3, 3) with half the
    horizontal view's tangent (n,) and an aspect does."""
    frames = shot.frames[at]
    points = points_ahead(shot, frames, (6.0, 60.0))
    meant, _ = pixels(shot, frames, points)
    seen = np.einsum("nji,nmj->nmi", turn, points - place[:, None, :])
    x = shot.width_px / 2 * (1 + seen[..., 0] / -seen[..., 2] / tan_x[:, None])
    y = shot.height_px / 2 * (1 - seen[..., 1] / -seen[..., 2] / (tan_x[:, None] / aspect))
    return float(np.hypot(x - meant[..., 0], y - meant[..., 1]).max())


def bound_px(name: str, format_key: str) -> float:
    """Single precision in the file or in the reader, at 1920 px: what it costs 5 km out or at 10,000 s is not a fault."""
    if name == "far_out":
        return 1.0
    return 0.05
