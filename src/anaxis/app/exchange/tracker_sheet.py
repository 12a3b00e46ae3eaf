"""What a tracker measures while it records: the newest sample as numbers, and the path of the last seconds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import field_of_view_deg
from anaxis.core.motion.samples import Samples


@dataclass(frozen=True)
class TrackerSheet:
    """A tracker's newest sample: label, number, unit; and its path seen from above, in a box of 200 by 120."""

    rows: list[tuple[str, str, str]]
    path: str
    extent_m: float


def tracker_sheet(samples: Samples) -> TrackerSheet:
    """``samples`` are the newest of a recording."""
    turned = Rotation.from_matrix(samples.rotation[-1])
    pan, tilt, roll = turned.as_euler("YXZ", degrees=True)
    x, y, z = samples.position_m[-1]
    view = field_of_view_deg(samples.image.width_px, samples.intrinsics_px[-1, 0])
    missing = int(samples.missing.sum())
    numbers = (
        ("position x, right", x, 4, "m"), ("position y, up", y, 4, "m"), ("position z, back", z, 4, "m"), ("pan", pan, 3, "°"), ("tilt", tilt, 3, "°"), ("roll", roll, 3, "°"),
        ("field of view, horizontal", view, 2, "°"), ("samples", 1 / samples.step_s, 1, "/s"), ("missing in the last seconds", 100 * missing / (len(samples) + missing), 1, "%"),
    )  # fmt: skip
    above = samples.position_m[:: max(1, len(samples) // 200)][:, [0, 2]]
    middle = (above.min(axis=0) + above.max(axis=0)) / 2
    extent = max(0.05, float((np.ptp(above, axis=0) / [200, 120]).max() * 200))
    points = (above - middle) * 180 / extent + [100, 60]
    return TrackerSheet(
        [(label, f"{number:.{digits}f}", unit) for label, number, digits, unit in numbers],
        " ".join(f"{a:.1f},{b:.1f}" for a, b in points),
        extent,
    )
