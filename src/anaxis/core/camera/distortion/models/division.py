"""The division model (Fitzgibbon 2001): one coefficient, and an inverse in closed form."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.distortion.kind import Bent, Coefficients, DistortionKind, radial
from anaxis.core.typing import Floats


def bend(c: Coefficients, u: Floats, v: Floats) -> Bent:
    """The inverse of ``u = u_d / (1 + k r_d^2)``: ``u_d = 2 u / (1 + sqrt(1 - 4 k r^2))``; not a number where there is none."""
    with np.errstate(invalid="ignore", divide="ignore"):
        root = np.sqrt(1 - 4 * c["k"] * (u * u + v * v))

    def by_r2() -> Floats:
        with np.errstate(invalid="ignore", divide="ignore"):
            return 4 * c["k"] / (root * (1 + root) ** 2)

    return radial(u, v, 2 / (1 + root), by_r2)


KIND = DistortionKind(
    "division",
    "Division",
    "A. W. Fitzgibbon, Simultaneous linear estimation of multiple view geometry and lens distortion, 2001",
    {"k": 0.0},
    bend,
)
