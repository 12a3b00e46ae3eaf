"""A model fitted to a map: by least squares over the plate, with what remains in pixels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.distortion.models import model_of, usual_of
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

_LEAST_POINTS = 30


@dataclass(frozen=True, eq=False)
class Fitted:
    """``off_px`` (m,) is what remains at each point; ``coefficients`` those of the distortion, by name."""

    distortion: Distortion
    coefficients: dict[str, float]
    off_px: Floats

    @property
    def rms_px(self) -> float:
        return float(np.sqrt((self.off_px**2).mean()))


def fit_model(
    model: str, pinhole: Floats, as_shot: Floats, px_per_tangent: float, with_centre: bool = False, squeeze: float = 1.0
) -> Fitted:
    """The coefficients with which a model takes ``pinhole`` tangents (m, 2) nearest to those ``as_shot`` (m, 2).

    ``with_centre`` looks for the distortion's centre too, which tangential coefficients do much the same as.
    ``squeeze`` is that of the picture the model is of, see :mod:`anaxis.core.camera.distortion.models`.

    Raises BadInput for an unknown model, too few points, and where nothing is found.
    """
    kind = model_of(model)
    usual = usual_of(kind) | {"squeeze": squeeze}
    if len(pinhole) < _LEAST_POINTS:
        raise BadInput(f"A fit needs {_LEAST_POINTS} points of the map or more; {len(pinhole)} are within the plate.")
    names = [*(k for k in kind.usual if k not in kind.not_fitted), *(("centre_u", "centre_v") if with_centre else ())]

    def made(values: Floats) -> Distortion:
        found = usual | dict(zip(names, values.tolist(), strict=True))
        return Distortion(kind, {k: np.full((1, 1), v) for k, v in found.items()})

    def off(values: Floats) -> Floats:
        bent = made(values).distort(pinhole[None])[0]
        return np.nan_to_num((bent - as_shot) * px_per_tangent, nan=1e6).ravel()

    start = np.array([usual[n] for n in names])
    limits = np.array([kind.limits.get(n, (-np.inf, np.inf)) for n in names]).T
    found = scipy.optimize.least_squares(
        off, start, bounds=(limits[0], limits[1]), x_scale="jac", xtol=1e-14, ftol=1e-14, gtol=1e-14, max_nfev=400
    )
    left = np.linalg.norm(found.fun.reshape(-1, 2), axis=1)
    if not np.isfinite(left).all() or left.max() > 1e5:
        raise BadInput(f"{kind.label} cannot be fitted to this map: try another model.")
    coefficients = dict(zip(names, (float(v) for v in found.x), strict=True))
    return Fitted(made(found.x), coefficients | ({"squeeze": squeeze} if squeeze != 1 else {}), left)
