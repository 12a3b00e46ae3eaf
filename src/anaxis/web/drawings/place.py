"""A placement before it is taken: the path and its landmarks as they stand and as they would, from above and from the side."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from markupsafe import Markup

from anaxis.core.camera.track import Track
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats
from anaxis.web.drawings.svg import drawing, drawn

_WIDTH, _HEIGHT, _PAD = 330.0, 190.0, 14.0
_POINTS = 200
# Canonical space on the page (2, 3): from above right and back, from the side right and up (the page's y runs down).
_VIEWS = {
    "from above": np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]),
    "from the side": np.array([[1.0, 0.0, 0.0], [0.0, -1.0, 0.0]]),
}


_ALT = "Path of the camera before and after placing, from above and from the side"


class PlacedPath(NamedTuple):
    """A camera's path (n, 3), its look at the first frame (3,), and landmarks (m, 3), canonical, metres."""

    path_m: Floats
    look: Floats
    marks_m: Floats


def standing(track: Track, marks_m: Floats) -> PlacedPath:
    at = np.unique(np.linspace(0, len(track) - 1, min(_POINTS, len(track))).astype(int))
    return PlacedPath(track.position_m[at], -track.rotation[0, :, 2], marks_m)


@drawing
def placed_svg(
    before: PlacedPath,
    after: PlacedPath,
    moved_m: Floats,
    goals_m: Floats,
    convention: Convention,
    unit: str,
    alt: str = _ALT,
) -> Markup:
    """Both on one scale; ``goals_m`` (k, 3) are where landmarks are to stand that come to stand at ``moved_m``."""
    every = np.concatenate([before.path_m, after.path_m, before.marks_m, after.marks_m, goals_m])
    half = _WIDTH / 2
    spans = [np.ptp(every @ flat.T, axis=0) for flat in _VIEWS.values()]
    widest, tallest = np.max(spans, axis=0)
    scale = min((half - 2 * _PAD) / max(widest, 1e-6), (_HEIGHT - 2 * _PAD - 24) / max(tallest, 1e-6), 1e6)
    views = []
    for k, (name, flat) in enumerate(_VIEWS.items()):
        # Each view stands in the middle of its half.
        spare = np.array([half, _HEIGHT - 22]) - spans[k] * scale
        page = _Page(flat * scale, np.array([k * half, 8]) + spare / 2 - (every @ flat.T).min(axis=0) * scale)
        views.append(
            {
                "name": name,
                "middle": k * half + half / 2,
                "standing": [_standing(page, before, scale, "was"), _standing(page, after, scale, "now")],
                "pairs": list(zip(page.of(moved_m), page.of(goals_m), strict=True)),
            }
        )
    bar, length = _bar(scale, convention.metres_per_unit, unit)
    return drawn("placed", alt=alt, width=_WIDTH, height=_HEIGHT, pad=_PAD, views=views, bar=bar, bar_length=length)


class _Page(NamedTuple):
    """Where points come to lie on the page: ``flat`` (2, 3) and ``shift`` (2,)."""

    flat: Floats
    shift: Floats

    def of(self, points_m: Floats) -> Floats:
        return np.asarray(points_m @ self.flat.T + self.shift)


def _standing(page: _Page, one: PlacedPath, scale: float, kind: str) -> dict[str, Any]:
    look = page.of(one.path_m[0] + one.look * 18 / scale)
    return {"kind": kind, "path": page.of(one.path_m), "look": look, "marks": page.of(one.marks_m)}


def _bar(scale: float, metres_per_unit: float, unit: str) -> tuple[float, str]:
    """A scale bar of 1, 2 or 5 and so many zeros of the unit, about a fifth of the drawing long."""
    wanted = 60.0 / (scale * metres_per_unit)
    power = 10.0 ** math.floor(math.log10(wanted))
    size = next(s for s in (5, 2, 1) if s * power <= wanted or s == 1) * power
    return size * metres_per_unit * scale, f"{size:g} {unit}"
