"""What is sharp: near and far limits around the focus distance.

With focal length f, stop N, circle of confusion c and focus distance s, all in one unit, the hyperfocal
distance is H = f^2 / (N c) + f; near = s (H - f) / (H + s - 2 f), far = s (H - f) / (H - s) (S. F. Ray,
Applied Photographic Optics). Beyond the hyperfocal distance far is infinite.
"""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Used
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

# The largest blur that still counts as sharp: this share of the used rectangle's diagonal.
CIRCLE_SHARE = 1 / 1500


def circle_mm(used: Used) -> Floats:
    """The usual circle of confusion on every frame, (n,)."""
    return np.hypot(used.width_mm, used.height_mm) * CIRCLE_SHARE


def require_circle(circle_mm: float) -> None:
    """Raise BadInput for a circle of confusion that no picture has."""
    if not 1e-4 <= circle_mm <= 10:
        raise BadInput(
            f"A circle of confusion of {circle_mm:g} mm is not possible: type 0.0001 to 10 mm, such as 0.025."
        )


def sharp_m(track: Track, used: Used, circle: float | None = None) -> Floats:
    """Near and far limit on every frame, (n, 2) metres, for a ``circle`` of confusion in mm (:func:`circle_mm` where it is None); NaN
    where focus or stop are not known, far may be infinite."""
    lens = track.lens
    f, s = lens.focal_mm / 1000, lens.focus_m
    blur_mm = circle_mm(used) if circle is None else circle
    with np.errstate(divide="ignore", invalid="ignore"):
        hyperfocal = f * f / (lens.fstop * blur_mm / 1000) + f
        near = s * (hyperfocal - f) / (hyperfocal + s - 2 * f)
        far = np.where(s < hyperfocal, s * (hyperfocal - f) / (hyperfocal - s), np.inf)
    known = (s > f) & (lens.fstop > 0) & np.isfinite(hyperfocal)
    return np.where(known[:, None], np.stack([near, far], axis=1), np.nan)
