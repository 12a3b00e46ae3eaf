"""A tracker's recording as a file, such as a phone writes: timed samples of a made-up walk."""

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
