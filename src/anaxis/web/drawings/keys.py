"""Which frames kept a key, and by how many pixels the frames between are off."""

from __future__ import annotations

from typing import Any

import numpy as np
from markupsafe import Markup

from anaxis.web.drawings.svg import drawing, drawn

_WIDTH, _LEFT, _RIGHT, _TOP, _FOOT = 330.0, 4.0, 4.0, 16.0, 96.0
_COLUMNS = 322


@drawing
def keys_svg(result: dict[str, Any], tolerance_px: float) -> Markup:
    """The deviation on every frame under the tolerance's line, and below it a tick for every key."""
    frames, off = np.array(result["all_frames"]), np.array(result["deviation_px"])
    span = max(1.0, float(frames[-1] - frames[0]))
    scale = (_WIDTH - _LEFT - _RIGHT) / span
    top = max(tolerance_px, float(off.max())) * 1.08

    def x(frame: float) -> float:
        return _LEFT + (frame - frames[0]) * scale

    def y(pixels: float) -> float:
        return _FOOT - pixels / top * (_FOOT - _TOP)

    # No more points than the drawing is wide; of several frames in one column the worst is drawn.
    column = np.minimum((np.arange(len(frames)) * _COLUMNS) // max(1, len(frames)), _COLUMNS - 1)
    starts = np.flatnonzero(np.diff(column, prepend=-1))
    worst = np.maximum.reduceat(off, starts)
    return drawn(
        "keys",
        left=_LEFT,
        right=_WIDTH - _RIGHT,
        foot=_FOOT,
        after=result["after"],
        before=result["before"],
        worst_px=result["max_px"],
        tolerance_px=tolerance_px,
        limit=y(tolerance_px),
        line=[(x(f), y(v)) for f, v in zip(frames[starts].tolist(), worst.tolist(), strict=True)],
        ticks=[x(f) for f in result["frames"]],
        first=frames[0],
        last=frames[-1],
    )
