"""Polynomials of their own across and up, after a rotation of the lens about its axis and a scale in each direction."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.distortion.kind import Bent, Coefficients, DistortionKind, Slopes
from anaxis.core.typing import Floats


def bend(c: Coefficients, u: Floats, v: Floats) -> Bent:
    """``x_d = s_x x (1 + a1 x^2 + a2 y^2 + a3 x^4 + a4 x^2 y^2 + a5 y^4)`` and ``y_d`` likewise with b and s_y, where x and y
    are u and v in the lens's own axes, rotated by ``rotation_deg`` against the picture's; the result is rotated back."""
    turn = np.radians(c["rotation_deg"])
    cos, sin = np.cos(turn), np.sin(turn)
    x, y = cos * u + sin * v, cos * v - sin * u
    x2, y2 = x * x, y * y

    def factor(a: str) -> Floats:
        k1, k2, k3, k4, k5 = (c[f"{a}{i}"] for i in range(1, 6))
        return 1 + k1 * x2 + k2 * y2 + k3 * x2 * x2 + k4 * x2 * y2 + k5 * y2 * y2

    fx, fy = factor("a"), factor("b")
    xd, yd = c["scale_x"] * x * fx, c["scale_y"] * y * fy

    def one(a: str, along: Floats, factor: Floats, scale: Floats) -> tuple[Floats, Floats]:
        """How a new coordinate changes by its own old one, and by the other."""
        k1, k2, k3, k4, k5 = (c[f"{a}{i}"] for i in range(1, 6))
        by_x = x * (2 * k1 + 4 * k3 * x2 + 2 * k4 * y2)
        by_y = y * (2 * k2 + 2 * k4 * x2 + 4 * k5 * y2)
        own, across = (by_x, by_y) if a == "a" else (by_y, by_x)
        return scale * (factor + along * own), scale * along * across

    def slopes() -> Slopes:
        """Rotated back: R J R^T with R = [[cos, -sin], [sin, cos]]."""
        xx, xy = one("a", x, fx, c["scale_x"])
        yy, yx = one("b", y, fy, c["scale_y"])
        return Slopes(
            cos * (cos * xx - sin * xy) - sin * (cos * yx - sin * yy),
            cos * (sin * xx + cos * xy) - sin * (sin * yx + cos * yy),
            sin * (cos * xx - sin * xy) + cos * (cos * yx - sin * yy),
            sin * (sin * xx + cos * xy) + cos * (sin * yx + cos * yy),
        )

    return Bent(cos * xd - sin * yd, sin * xd + cos * yd, slopes)


KIND = DistortionKind(
    "anamorphic",
    "Anamorphic",
    "Even polynomials in two variables; docs/conventions.md, Distortion",
    {**{f"{a}{i}": 0.0 for a in "ab" for i in range(1, 6)}, "rotation_deg": 0.0, "scale_x": 1.0, "scale_y": 1.0},
    bend,
    limits={"rotation_deg": (-45.0, 45.0)},
)
