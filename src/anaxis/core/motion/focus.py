"""Focus distances measured to a point, and pulled from one to another."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.set_objects import SetObject
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats

# Points that are measured at once, over some frames.
_AT_ONCE = 2_000_000


def distances_m(track: Track, point_m: Floats, straight: bool) -> Floats:
    """How far a point (n or 1, 3) is from the camera on every frame, (n,): along the view axis, which is negative behind the
    camera, or ``straight``."""
    away = point_m - track.position_m
    if straight:
        return np.asarray(np.linalg.norm(away, axis=1))
    return np.asarray(-np.einsum("ni,ni->n", away, track.rotation[:, :, 2]))


def nearest_depths_m(track: Track, one: SetObject) -> Floats:
    """How far the nearest point of an object's surface is along the view axis on every frame, (n,). Depth is linear over a face,
    so that point is a corner of one. What is not wholly in front of the camera has no nearest surface: not above 0 there."""
    used = np.unique(one.corners)
    depths = np.empty(len(track))
    step = max(1, _AT_ONCE // max(1, len(used)))
    for low in range(0, len(track), step):
        index = np.arange(low, min(low + step, len(track)))
        away = one.at_frames(index).places_m(used) - track.position_m[index, None, :]
        depths[index] = (-np.einsum("nki,ni->nk", away, track.rotation[index, :, 2])).min(axis=1)
    return depths


def shares(frames: Floats, first: float | None, last: float | None, eased: bool) -> Floats:
    """How much of a pull is done on every frame, (n,): 0 until ``first``, 1 from ``last`` on; in between straight, or ``eased``
    (3 t^2 - 2 t^3, which begins and ends without a jerk). Without ``first`` all of it is done; without ``last`` it is a cut at
    ``first``."""
    if first is None:
        return np.ones(len(frames))
    if last is None or last <= first:
        return (frames >= first).astype(np.float64)
    t = np.clip((frames - first) / (last - first), 0.0, 1.0)
    return t * t * (3 - 2 * t) if eased else t


def pulled(track: Track, name: str, wanted_m: Floats, share: Floats) -> Floats:
    """The focus distance (n,), where ``share`` (n,) of the way from the camera's own to ``wanted_m`` (n,) is done.

    Raises BadInput for an object behind the camera, and for a pull that begins where the camera has no focus distance.
    """
    behind = np.flatnonzero((share > 0) & ~(wanted_m > 0))
    if len(behind):
        where = format_frame(track.frames[behind[0]])
        raise BadInput(
            f"'{name}' is not in front of the camera on {len(behind)} frames, the first of them {where}: "
            "choose other frames, or another object."
        )
    own = track.lens.focus_m
    unknown = np.flatnonzero((share < 1) & (share > 0) & ~np.isfinite(own))
    if len(unknown):
        raise BadInput(
            f"The camera has no focus distance on frame {format_frame(track.frames[unknown[0]])}, where the pull to '{name}' begins: focus on an object on that frame first."
            ""
        )
    return np.where(share >= 1, wanted_m, np.where(share <= 0, own, (1 - share) * own + share * wanted_m))
