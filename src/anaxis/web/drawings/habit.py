"""A habit as a small drawing: a made path as it is meant (ink) and as it arrives (dashed), from above or in time."""

from __future__ import annotations

from typing import Any

import numpy as np
from markupsafe import Markup

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.edits import renumbered
from anaxis.core.space.axes import Convention
from anaxis.diagnosis.calibration_kit import made_camera
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import HABITS
from anaxis.web.drawings.svg import drawing, drawn

_SIZE, _PAD = (150.0, 84.0), 9.0
_IMAGE = Image(1920, 1080)
_TIME = ("frame_offset", "own_rate", "own_first", "no_negative", "only_first", "first_keys", "snap")


@drawing
def habit_svg(code: str, params: dict[str, Any], convention: Convention) -> Markup:
    """What a habit does to a made camera: in time for habits of time, the image's corners for those of the lens, else from above."""
    track = made_camera()
    if code == "no_negative":
        track = renumbered(track, -20.0)
    whole = np.tile(np.eye(4), (len(track), 1, 1))
    whole[:, :3, :3], whole[:, :3, 3] = track.rotation, track.position_m
    local = whole.copy()
    local[:, :3, 3] *= 0.4  # as if parents carried it the rest of the way
    here = Arriving(track, _IMAGE, "width", local, whole, "Z" if params.get("up") == "Y" else "Y", 1.0)
    try:
        seen = HABITS[code].arrive(here, params, convention).track
    except (BadInput, KeyError, TypeError, ValueError):
        return Markup("")
    meant, arrived, axis = _lines(code, track, seen)
    return drawn("habit", width=_SIZE[0], height=_SIZE[1], axis=axis, lines=_paths(meant, arrived))


def _lines(code: str, track: Track, seen: Track) -> tuple[np.ndarray, np.ndarray, str]:
    if code in _TIME:
        return (
            np.stack([track.frames, -track.position_m[:, 0]], axis=1),
            np.stack([seen.frames, -seen.position_m[:, 0]], axis=1),
            "over frames",
        )
    if code in ("film_factor", "film_default", "focal_factor", "vfov_as_hfov", "no_offsets", "no_lens_animation"):
        at = len(track) - 1
        return _window(track, at), _window(seen, min(at, len(seen) - 1)), "the view"
    up = code in ("up_axis", "no_roll") or abs(np.ptp(seen.position_m[:, 1])) > 3 * abs(np.ptp(seen.position_m[:, 2]))
    axes = [0, 1] if up else [0, 2]
    sign = np.array([1.0, -1.0 if up else 1.0])
    ahead = [t.position_m[:, axes] * sign for t in (track, seen)]
    looks = [
        np.concatenate([a, a[-1:] - (t.rotation[-1:, :, 2] * _reach(a))[:, axes] * sign])
        for a, t in zip(ahead, (track, seen), strict=True)
    ]
    return looks[0], looks[1], "from the side" if up else "from above"


def _reach(path: np.ndarray) -> float:
    return float(max(np.ptp(path[:, 0]), np.ptp(path[:, 1]), 0.3)) * 0.6


def _window(track: Track, at: int) -> np.ndarray:
    """The image's corners as tangents, closed."""
    lens, used = track.lens, track.lens.used(_IMAGE, "width")
    w, h, f = used.width_mm[at] / 2, used.height_mm[at] / 2, lens.focal_mm[at]
    x, y = lens.offset_x_mm[at], -lens.offset_y_mm[at]
    corners = np.array([(-w, -h), (w, -h), (w, h), (-w, h), (-w, -h)])
    return np.asarray((corners + np.array([x, y])) / f)


def _paths(meant: np.ndarray, arrived: np.ndarray) -> list[tuple[str, Any]]:
    """Both on one scale; one that is far larger or smaller than the other runs off the paper or shrinks to a dot."""
    low, high = meant.min(axis=0), meant.max(axis=0)
    both_low, both_high = np.minimum(low, arrived.min(axis=0)), np.maximum(high, arrived.max(axis=0))
    if (both_high - both_low).max() < 12 * (high - low).max():
        low, high = both_low, both_high
    span = np.maximum(high - low, 1e-6)
    room = np.array(_SIZE) - 2 * _PAD
    if abs(span[0] / span[1]) > 30 or np.ptp(meant[:, 0]) > 20:  # over frames the two axes have nothing in common
        scale = room / span
    else:
        scale = np.full(2, float((room / span).min()))
    shift = (np.array(_SIZE) - span * scale) / 2

    lines = (("meant", meant), ("arrived", arrived))
    return [(kind, np.clip((points - low) * scale + shift, -500, 700).tolist()) for kind, points in lines]
