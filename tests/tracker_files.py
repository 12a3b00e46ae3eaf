"""Tables as trackers and people write them: a phone's log of a made-up walk, and one that can be read in two ways."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from anaxis.simulated.tracker import Device, measured

HEADINGS = "timestamp_ms,tx,ty,tz,qx,qy,qz,qw,fx,fy,cx,cy"


def write_phone_log(
    path: Path, device: Device, seconds: float = 13.5, gap_s: tuple[float, float] = (6.75, 7.25)
) -> Path:
    """A table of a walk with its clock 0.4 ms unsteady, without the samples in ``gap_s``."""
    times = np.arange(int(seconds * device.rate)) / device.rate
    rows, told = measured(device, times)
    rows = rows[told & ~((times >= gap_s[0]) & (times < gap_s[1]))]
    clock_ms = 1000 * rows[:, 0] + np.random.default_rng(1).normal(0, 0.4, len(rows))
    lines = [",".join([f"{t:.3f}", *(f"{v:.9g}" for v in row)]) for t, row in zip(clock_ms, rows[:, 1:], strict=True)]
    path.write_text("\n".join([HEADINGS, *lines]) + "\n")
    return path


def write_small_pan(path: Path) -> Path:
    """A pan whose angles are in radians, under headings that do not say so: degrees fit as well."""
    rows = [f"{1001 + i},{0.1 * i:.4f},1.6,{-0.2 * i:.4f},0,{0.01 * i:.4f},0" for i in range(30)]
    path.write_text("\n".join(["frame,tx,ty,tz,rx,ry,rz", *rows]) + "\n")
    return path


# How it was meant, as a column layout.
SMALL_PAN_LAYOUT = {
    "columns": [
        {"quantity": "frame"},
        *({"quantity": f"position_{a}"} for a in "xyz"),
        *({"quantity": f"rotation_{a}", "unit": "rad"} for a in "xyz"),
    ]
}
