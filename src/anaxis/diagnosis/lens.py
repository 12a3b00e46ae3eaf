"""What was done to a camera's lens, sought under a pose that is settled."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.typing import Floats
from anaxis.diagnosis.case import Case
from anaxis.diagnosis.pose import known, rounded
from anaxis.diagnosis.time import Cause
from anaxis.packages.habits import HABITS


def lenses(case: Case, pose: Track, seen: Track) -> Iterator[tuple[tuple[Cause, ...], Track, float]]:
    """Lens mistakes, alone and with what is dropped beside them, as (causes, camera, cost); simplest first."""
    here = case.arriving(pose)
    sizes: list[tuple[Cause, ...]] = [()]
    ours, theirs = pose.lens, seen.lens
    view, other = _view(case, pose), _view(case, seen)
    ratio = float(np.median(other / view))
    film = float(np.median(theirs.film_width_mm / ours.film_width_mm))
    if abs(ratio - 1) > 1e-7:
        for code, factor in (("film_factor", film), ("film_factor", ratio), ("focal_factor", 1 / ratio)):
            sizes.append(((code, {"factor": rounded(factor)}),))
        sizes.append((("vfov_as_hfov", {}),))
        if abs(film - 1) > 1e-6:
            sizes.append((("vfov_as_hfov", {}), ("film_factor", {"factor": rounded(film)})))
        width, height = float(theirs.film_width_mm[0]), float(theirs.film_height_mm[0])
        if np.ptp(theirs.film_width_mm) < 1e-6:
            sizes.append((("film_default", {"width_mm": round(width, 4), "height_mm": round(height, 4)}),))
    offsets = max(np.abs(ours.offset_x_mm).max(), np.abs(ours.offset_y_mm).max()) > 1e-9
    moves = np.ptp(view) > 1e-12 * view[0]
    drops: list[tuple[Cause, ...]] = [()]
    if offsets:
        drops.append((("no_offsets", {}),))
    if moves:
        drops.append((("no_lens_animation", {}),))
    if offsets and moves:
        drops.append((("no_lens_animation", {}), ("no_offsets", {})))
    tried = set()
    for dropped, sized in product(drops, sizes):
        causes = (*dropped, *sized)
        if str(causes) in tried:
            continue
        tried.add(str(causes))
        made, cost = here, 0.0
        for code, params in causes:
            made = HABITS[code].arrive(made, params, case.convention)
            cost += HABITS[code].cost + (0.6 if code.endswith("_factor") and not known(params["factor"]) else 0.0)
        yield causes, made.track, cost


def _view(case: Case, track: Track) -> Floats:
    used = track.lens.used(case.image, case.fit)
    return np.asarray(used.width_mm / track.lens.focal_mm)
