"""Fisheye (Kannala and Brandt 2006): the angle to the axis, bent by a polynomial."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.distortion.kind import Bent, Coefficients, DistortionKind, radial
from anaxis.core.typing import Floats

# Nearer to the axis than this the quotient of two small numbers is taken from its series.
_NEAR = 1e-8


def bend(c: Coefficients, u: Floats, v: Floats) -> Bent:
    """``theta_d = theta (1 + k1 theta^2 + k2 theta^4 + k3 theta^6 + k4 theta^8)`` with ``theta = atan r``;
    ``u_d = u theta_d / r``."""
    r2 = u * u + v * v
    far = r2 > _NEAR
    safe = np.where(far, r2, 1.0)
    r = np.sqrt(safe)
    theta = np.arctan(r)
    t2 = theta * theta
    k1, k2, k3, k4 = (c[f"k{i}"] for i in range(1, 5))
    bent = theta * (1 + t2 * (k1 + t2 * (k2 + t2 * (k3 + t2 * k4))))
    factor = np.where(far, bent / r, 1 + (k1 - 1 / 3) * r2)

    def by_r2() -> Floats:
        by_theta = 1 + t2 * (3 * k1 + t2 * (5 * k2 + t2 * (7 * k3 + 9 * t2 * k4)))
        return np.where(far, (by_theta / (1 + safe) - bent / r) / (2 * safe), k1 - 1 / 3)

    return radial(u, v, factor, by_r2)


KIND = DistortionKind(
    "fisheye",
    "Fisheye",
    "J. Kannala and S. S. Brandt, A generic camera model and calibration method, 2006",
    {f"k{i}": 0.0 for i in range(1, 5)},
    bend,
)
