"""The map itself as a model: what an ST map says, drawn between its samples by cubic splines.

For lenses that no formula fits. It is known on a grid of tangents of the pinhole picture; beyond the grid it goes on straight.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, cached_property
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.distortion.kind import Bent, Coefficients, DistortionKind, Slopes
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

CODE = "map"
_FEWEST, _MOST = 4, 257
_KEYS = ("across", "up", "u", "v")


@dataclass(frozen=True, eq=False)
class MapBend:
    """``u`` and ``v`` (k, m) are where the points at ``across`` (m,) and ``up`` (k,), both rising, come to lie."""

    across: Floats
    up: Floats
    u: Floats
    v: Floats

    @cached_property
    def _splines(self) -> tuple[scipy.interpolate.RectBivariateSpline, scipy.interpolate.RectBivariateSpline]:
        return scipy.interpolate.RectBivariateSpline(
            self.up, self.across, self.u
        ), scipy.interpolate.RectBivariateSpline(self.up, self.across, self.v)

    def __call__(self, c: Coefficients, u: Floats, v: Floats) -> Bent:
        at_u = np.clip(np.nan_to_num(u), self.across[0], self.across[-1])
        at_v = np.clip(np.nan_to_num(v), self.up[0], self.up[-1])
        to_u, to_v = self._splines

        @cache
        def slopes() -> Slopes:
            by_u, by_v = ((s.ev(at_v, at_u, dy=1), s.ev(at_v, at_u, dx=1)) for s in (to_u, to_v))
            return Slopes(*by_u, *by_v)

        value_u, value_v = to_u.ev(at_v, at_u), to_v.ev(at_v, at_u)
        off_u, off_v = u - at_u, v - at_v
        if off_u.any() or off_v.any():  # beyond the grid
            s = slopes()
            value_u, value_v = value_u + s.uu * off_u + s.uv * off_v, value_v + s.vu * off_u + s.vv * off_v
        return Bent(value_u, value_v, slopes)

    def document(self) -> dict[str, Any]:
        return {"model": CODE, **{k: getattr(self, k).tolist() for k in _KEYS}}


def map_kind(bend: MapBend) -> DistortionKind:
    return DistortionKind(CODE, "ST map", "The map itself", {}, bend)


def map_from_document(document: dict[str, Any], name: str) -> MapBend:
    """Raises BadInput that says what is wrong with it."""
    unknown = [k for k in document if k not in (*_KEYS, "model")]
    if unknown:
        raise BadInput(f"{name}: a map has {', '.join(_KEYS)}, and no '{unknown[0][:40]}'.")
    try:
        held = {k: np.asarray(document[k], dtype=np.float64) for k in _KEYS}
    except (KeyError, TypeError, ValueError) as error:
        raise BadInput(
            f"{name}: a map needs {', '.join(_KEYS)}: two rising lists of tangents, and the target of each point."
        ) from error
    across, up = held["across"], held["up"]
    fits = across.ndim == up.ndim == 1 and all(_FEWEST <= len(a) <= _MOST for a in (across, up))
    fits = fits and held["u"].shape == held["v"].shape == (len(up), len(across))
    if not (fits and all(np.isfinite(v).all() and (np.abs(v) < 1e6).all() for v in held.values())):
        raise BadInput(
            f"{name}: the map's grid must be {_FEWEST} to {_MOST} points a side, with a number for u and v at each."
        )
    if (np.diff(across) <= 0).any() or (np.diff(up) <= 0).any():
        raise BadInput(f"{name}: 'across' and 'up' must rise.")
    return MapBend(across, up, held["u"], held["v"])
