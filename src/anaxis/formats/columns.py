"""Column text: one row a frame, comma separated, under a header row that names unit and meaning."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from anaxis.core.axes import Convention
from anaxis.core.outgoing import Outgoing, numbers_of
from anaxis.core.reduce import KeyRule
from anaxis.core.timing import plain_frame

COLUMNS = (
    "frame", "seconds", "position_x", "position_y", "position_z",
    "rotation_x_deg", "rotation_y_deg", "rotation_z_deg",
    "focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "squeeze",
    "hfov_deg", "vfov_deg", "zoom_px", "focus",
)  # fmt: skip


def key_rule(receiver: Convention) -> KeyRule:
    """Whoever opens a table draws straight between its rows."""
    return KeyRule(receiver)


def write_columns(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.csv`` in the receiver's numbers, every float with all its digits; a table holds one camera."""
    (outgoing,) = cameras
    numbers, lens = numbers_of(outgoing), outgoing.track.lens
    table = np.column_stack(
        [
            numbers.frames, numbers.seconds, numbers.position, numbers.rotation_deg,
            numbers.focal_mm, numbers.film_width_mm, numbers.film_height_mm,
            lens.offset_x_mm, lens.offset_y_mm, lens.squeeze,
            numbers.hfov_deg, numbers.vfov_deg, numbers.zoom_px, numbers.focus,
        ]
    )  # fmt: skip
    table = table[outgoing.written]
    target = folder / f"{stem}.csv"
    with target.open("w", encoding="utf-8", newline="") as out:
        writer = csv.writer(out)
        writer.writerow(COLUMNS)
        for row in table.tolist():
            writer.writerow([plain_frame(row[0]), *("" if np.isnan(v) else repr(v) for v in row[1:])])
    return [target]
