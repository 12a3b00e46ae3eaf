"""How much of a shot projection cameras cover, worked out against its set: for pages and the command line alike."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.derive.coverage import (
    HIDDEN,
    OUTSIDE,
    SEEN,
    TRIED_FRAMES,
    TURNED_AWAY,
    Cover,
    SeenSurfaces,
    best_of,
    cover_of,
    seen_of,
    shares,
    spread,
)
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.diagnosis.rays import caster_of

Document = dict[str, Any]
Held = tuple[Track, Image, str]


def coverage(
    shot: Track, image: Image, fit: str, triangles_m: Floats, held: Sequence[Held]
) -> tuple[Document, dict[str, Floats]]:
    """Coverage of a shot by projection cameras (track, image, fit) together: a document, and arrays for a drawing.

    The document: ``share`` covered over the looked-at frames, ``worst`` and its frame, ``frames`` with the share, why the
    rest is not, and the density of each. The arrays: ``pixels`` (m, 2), ``points_m`` (k, m, 3), ``why`` (k, m) and ``density``
    (k, m), the best of the cameras for each point. Raises BadInput where there are no surfaces, or nothing of them is seen.
    """
    cast = caster_of(triangles_m)
    seen = seen_of(shot, image, fit, cast)
    covers = [cover_of(seen, t, i, f, cast) for t, i, f in held]
    why, density = _together(covers)
    return _document(shot, seen, why, density), {
        "pixels": seen.pixels, "points_m": seen.points_m, "why": why.astype(np.float64), "density": density,
    }  # fmt: skip


def proposals(shot: Track, image: Image, fit: str, triangles_m: Floats, most: int = 3) -> list[Document]:
    """The frames to hold the shot camera at that would cover most: the best one, the best two, the best three."""
    cast = caster_of(triangles_m)
    seen = seen_of(shot, image, fit, cast)
    tried = spread(len(shot), TRIED_FRAMES)
    covers = [cover_of(seen, shot.select_frames(np.array([i])), image, fit, cast) for i in tried.tolist()]
    return [
        {"frames": [plain_frame(float(shot.frames[tried[i]])) for i in found.tried], "share": found.share}
        for found in best_of(seen, covers, most)
    ]


def _together(covers: Sequence[Cover]) -> tuple[np.ndarray, Floats]:
    """Of several projections for each point: the densest that covers it, else the reason that lies nearest to covering it."""
    rank = np.array([0, 3, 2, 1])  # covered, then hidden, turned away, outside
    every = np.stack([c.why for c in covers])
    order = np.where(every < 0, 9, rank[np.maximum(every, 0)])
    why = np.take_along_axis(every, order.argmin(axis=0)[None], axis=0)[0]
    dense = np.stack([np.nan_to_num(c.density, nan=-1.0) for c in covers]).max(axis=0)
    return why, np.where(dense > 0, dense, np.nan)


def _document(shot: Track, seen: SeenSurfaces, why: np.ndarray, density: Floats) -> Document:
    covered = why == SEEN
    each = shares(seen, covered)
    known = np.isfinite(each)
    hit = np.maximum(seen.hit.sum(axis=1), 1)
    rows = []
    for i, place in enumerate(seen.places.tolist()):
        dense = density[i][covered[i]]
        rows.append(
            {
                "frame": plain_frame(float(shot.frames[place])), "set": float(seen.hit[i].mean()),
                "share": float(each[i]) if known[i] else None,
                **{name: float((why[i] == code).sum() / hit[i]) for name, code in (("outside", OUTSIDE), ("turned_away", TURNED_AWAY), ("hidden", HIDDEN))},
                "density": float(np.median(dense)) if len(dense) else None,
                "density_low": float(np.quantile(dense, 0.05)) if len(dense) else None,
            }
        )  # fmt: skip
    worst = int(np.nanargmin(each))
    return {
        "share": float(each[known].mean()), "worst": float(each[worst]), "worst_frame": rows[worst]["frame"], "frames": rows,
    }  # fmt: skip
