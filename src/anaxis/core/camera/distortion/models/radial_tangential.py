"""Radial and tangential (Brown 1966, 1971), with the optional denominator of a rational one."""

from __future__ import annotations

from anaxis.core.camera.distortion.kind import Bent, Coefficients, DistortionKind, Slopes, radial
from anaxis.core.typing import Floats


def bend(c: Coefficients, u: Floats, v: Floats) -> Bent:
    """``u_d = u R + 2 p1 u v + p2 (r^2 + 2 u^2)``, ``v_d = v R + p1 (r^2 + 2 v^2) + 2 p2 u v`` with
    ``R = (1 + k1 r^2 + k2 r^4 + k3 r^6) / (1 + k4 r^2 + k5 r^4 + k6 r^6)``."""
    r2 = u * u + v * v
    above = 1 + r2 * (c["k1"] + r2 * (c["k2"] + r2 * c["k3"]))

    def above_by() -> Floats:
        return c["k1"] + r2 * (2 * c["k2"] + 3 * r2 * c["k3"])

    if any(c[k].any() for k in ("k4", "k5", "k6")):
        below = 1 + r2 * (c["k4"] + r2 * (c["k5"] + r2 * c["k6"]))

        def by_r2() -> Floats:
            below_by = c["k4"] + r2 * (2 * c["k5"] + 3 * r2 * c["k6"])
            return (above_by() * below - above * below_by) / (below * below)

        b = radial(u, v, above / below, by_r2)
    else:  # most lenses have no denominator, and this is asked most of all
        b = radial(u, v, above, above_by)
    p1, p2 = c["p1"], c["p2"]

    def slopes() -> Slopes:
        s, across = b.slopes, 2 * (p1 * u + p2 * v)
        return Slopes(s.uu + 2 * p1 * v + 6 * p2 * u, s.uv + across, s.vu + across, s.vv + 6 * p1 * v + 2 * p2 * u)

    return Bent(b.u + 2 * p1 * u * v + p2 * (r2 + 2 * u * u), b.v + p1 * (r2 + 2 * v * v) + 2 * p2 * u * v, slopes)


KIND = DistortionKind(
    "radial-tangential",
    "Radial and tangential",
    "D. C. Brown, Decentering distortion of lenses, 1966; Close-range camera calibration, 1971",
    dict.fromkeys(("k1", "k2", "k3", "p1", "p2", "k4", "k5", "k6"), 0.0),
    bend,
    ("k4", "k5", "k6"),
)
