"""Which frames kept a key, and by how many pixels the frames between are off."""

from __future__ import annotations

from typing import Any

import numpy as np
from markupsafe import Markup

from anaxis.core.time.rates import format_frame

_WIDTH, _LEFT, _RIGHT, _TOP, _FOOT = 330.0, 4.0, 4.0, 16.0, 96.0
_COLUMNS = 322


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
    line = " ".join(f"{x(f):.1f},{y(v):.1f}" for f, v in zip(frames[starts].tolist(), worst.tolist(), strict=True))
    ticks = "".join(f"M{x(f):.1f} {_FOOT + 3:.0f}v9" for f in result["frames"])
    limit = y(tolerance_px)
    said = f"{result['after']} of {result['before']} keys; the worst frame is off by {result['max_px']:.3g} px"
    return Markup(
        f'<svg class="keys" viewBox="0 0 {_WIDTH:g} 124" role="img" aria-label="{said}">'
        f'<path class="limit" d="M{_LEFT} {limit:.1f}H{_WIDTH - _RIGHT}"/><text x="{_LEFT}" y="{limit - 4:.1f}">{tolerance_px:g} px</text>'
        f'<polyline class="off" points="{line}"/><path class="foot" d="M{_LEFT} {_FOOT}H{_WIDTH - _RIGHT}"/><path class="ticks" d="{ticks}"/>'
        f'<text x="{_LEFT}" y="121">{format_frame(frames[0])}</text><text x="{_WIDTH - _RIGHT}" y="121" text-anchor="end">{format_frame(frames[-1])}</text></svg>'
    )
