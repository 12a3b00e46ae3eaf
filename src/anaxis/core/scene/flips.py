"""Angles that jump by a whole or half turn between two samples: the same pose, a different journey."""

from __future__ import annotations

import numpy as np

from anaxis.core.findings import Finding
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats

_FLIP_DEG = 150.0


def angle_flips(path: str, what: str, frames: Floats, angles_deg: Floats) -> Finding | None:
    """A finding for a jump of about 180 or 360 degrees between samples at most a frame and a half apart.

    ``frames`` (k,) and ``angles_deg`` (k,) are the file's own samples of one angle.
    """
    if len(frames) < 2:
        return None
    with np.errstate(invalid="ignore"):
        jump = np.abs(np.diff(angles_deg))
        turns = np.round(jump / 180.0)
        flips = (jump > _FLIP_DEG) & (np.abs(jump - 180.0 * turns) < 30.0) & (np.diff(frames) <= 1.5)
    if not flips.any():
        return None
    at = int(np.argmax(flips)) + 1
    return Finding(
        "angle_flip",
        "note",
        f"{what} of {path} jumps by {jump[at - 1]:.0f} degrees at frame {format_frame(frames[at])}"
        f"{f', and {int(flips.sum()) - 1} times more' if flips.sum() > 1 else ''}.",
        "Nothing to do: Anaxis uses poses on whole frames and delivers angles without jumps.",
        "On whole frames the pose is right, but packages that sample between frames (motion blur) show the camera spin.",
        {"jump_deg": float(jump[at - 1]), "frame": float(frames[at]), "count": int(flips.sum())},
        node=path,
    )
