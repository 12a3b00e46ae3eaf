"""What projection cameras cover of a shot: over its frames, in its picture at one of them, and from above."""

from __future__ import annotations

from typing import Any

import numpy as np
from markupsafe import Markup

from anaxis.core.derive.coverage import HIDDEN, OUTSIDE, SEEN, TURNED_AWAY
from anaxis.core.typing import Floats
from anaxis.store.models import Version
from anaxis.web.drawings.svg import drawing, drawn

_WIDTH, _LEFT, _TOP, _HIGH, _GAP = 620.0, 46.0, 10.0, 92.0, 34.0
_KINDS = ((SEEN, "covered"), (OUTSIDE, "outside"), (TURNED_AWAY, "away"), (HIDDEN, "hidden"))


@drawing
def coverage_svg(found: dict[str, Any], place: int) -> Markup:
    """The share covered on each frame that was looked at, and below it the density; a line at the one shown."""
    rows = found["frames"]
    first, last = rows[0]["frame"], rows[-1]["frame"]
    span = max(1.0, float(last - first))

    def x(frame: float) -> float:
        return _LEFT + (frame - first) / span * (_WIDTH - _LEFT - 10)

    dense = [r["density"] for r in rows if r["density"] is not None]
    top = max(1.2, *(d * 1.1 for d in dense)) if dense else 1.2
    second = _TOP + _HIGH + _GAP

    def curve(key: str, high: float, foot: float) -> list[list[tuple[float, float]]]:
        runs: list[list[tuple[float, float]]] = [[]]
        for r in rows:
            if r[key] is None:
                runs.append([])
            else:
                runs[-1].append((x(r["frame"]), foot - min(r[key], high) / high * _HIGH))
        return [run for run in runs if run]

    return drawn(
        "coverage", width=_WIDTH, height=second + _HIGH + 24, left=_LEFT, right=_WIDTH - 10, top=_TOP, foot=_TOP + _HIGH, second=second,
        second_foot=second + _HIGH, share=curve("share", 1.0, _TOP + _HIGH), density=curve("density", top, second + _HIGH),
        low=curve("density_low", top, second + _HIGH), one=second + _HIGH - _HIGH / top, at=x(rows[place]["frame"]), first=first, last=last,
        links=[(x(r["frame"]), r["frame"], r["share"]) for r in rows], frame_at=rows[place]["frame"], half=(x(rows[1]["frame"]) - x(first)) / 2 if len(rows) > 1 else 20.0,
        said=f"{found['share']:.1%} of the visible set is covered, {found['worst']:.1%} at worst",
    )  # fmt: skip


@drawing
def set_svg(arrays: dict[str, Floats], place: int, shot: Version) -> Markup:
    """What the shot camera sees of the set at a frame: each ray a cell, filled where it is covered; and the same from above."""
    why, pixels, points = arrays["why"][place], arrays["pixels"], arrays["points_m"][place]
    density = arrays["density"][place]
    wide = 400.0
    scale = wide / (shot.width_px * shot.pixel_aspect)
    high = shot.height_px * scale
    columns = len(np.unique(pixels[:, 0]))
    cell = wide / columns
    at = pixels * [scale * shot.pixel_aspect, scale] - cell / 2
    cells = {
        name: [
            (float(u), float(v), _tone(float(d)))
            for (u, v), d in zip(at[why == code], density[why == code], strict=True)
        ]
        for code, name in _KINDS
    }
    seen = np.isfinite(points[:, 0])
    plan, bar = _plan(points[seen], why[seen], high)
    return drawn(
        "on_set",
        width=wide,
        height=high,
        cell=cell,
        cells=cells,
        plan=plan,
        bar=bar,
        seen=int(seen.sum()),
        whole=wide + 20 + high,
    )


def _tone(density: float) -> str:
    """How thick a covered cell is drawn: by how many of the projection's pixels fall on one of the render's."""
    return "thin" if density < 0.5 else "half" if density < 0.95 else "full"


def _plan(points: Floats, why: Floats, size: float) -> tuple[list[tuple[float, float, bool]], tuple[float, str]]:
    """The points from above in a square, covered or not, and a scale bar: its length and what it says."""
    if not len(points):
        return [], (0.0, "")
    flat = points[:, [0, 2]]
    low, high = flat.min(axis=0), flat.max(axis=0)
    span = max(float((high - low).max()), 1e-6)
    at = (flat - (low + high) / 2) / span * (size - 24) + size / 2
    step = 10 ** np.floor(np.log10(span / 2))
    bar = float(step * (5 if span / 2 >= 5 * step else 2 if span / 2 >= 2 * step else 1))
    return [(float(x), float(y), bool(w == SEEN)) for (x, y), w in zip(at, why, strict=True)], (
        bar / span * (size - 24),
        f"{bar:g} m",
    )
