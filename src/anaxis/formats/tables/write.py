"""Column text: one row a frame, in the receiver's own layout, or under a header that names unit and meaning."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.motion.keys import KeyRule, continuous_quaternions
from anaxis.core.outgoing import Outgoing
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.formats.tables.layout import NOTHING, Column, columns_of

COLUMNS = (
    "frame", "seconds", "position_x", "position_y", "position_z",
    "rotation_x_deg", "rotation_y_deg", "rotation_z_deg",
    "focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "squeeze",
    "hfov_deg", "vfov_deg", "zoom_px", "focus", "fstop",
)  # fmt: skip
SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t", "blank": " "}
_UNITS = ("deg", "mm", "px")


def _ours(heading: str) -> dict[str, str]:
    name, _, unit = heading.rpartition("_")
    return {"quantity": name, "unit": unit} if unit in _UNITS else {"quantity": heading}


_OURS = {"columns": [_ours(c) for c in COLUMNS]}


def key_rule(receiver: Convention) -> KeyRule:
    """Whoever opens a table draws straight between its rows."""
    return KeyRule(receiver)


def write_columns(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.csv`` in the receiver's numbers and layout, every float with all its digits; a table holds one camera.

    Raises BadInput where a table without headings would need an empty cell.
    """
    (outgoing,) = cameras
    layout: dict[str, Any] = outgoing.layout or _OURS
    columns = columns_of(layout, len(layout["columns"]))
    held = _values(outgoing)
    headings = [heading_of(c) for c in columns] if layout.get("headings", True) else None
    table = np.column_stack([held[c.quantity] / c.factor for c in columns])[outgoing.written]
    separator = SEPARATORS[layout.get("separator", "comma")]
    if separator == " " and np.isnan(table).any():
        lost = columns[int(np.argmax(np.isnan(table).any(axis=0)))].quantity
        raise BadInput(
            f"The camera has no {lost}, and a table separated by blanks has no empty cells: leave that column out of the layout."
        )
    frames = {i for i, c in enumerate(columns) if c.quantity == "frame"}
    target = folder / f"{stem}.csv"
    with target.open("w", encoding="utf-8", newline="") as out:
        writer = csv.writer(out, delimiter=separator)
        if headings:
            writer.writerow(headings)
        for row in table.tolist():
            writer.writerow(
                [plain_frame(v) if i in frames else "" if np.isnan(v) else repr(v) for i, v in enumerate(row)]
            )
    return [target]


def heading_of(column: Column) -> str:
    """``rotation_x_deg``: what a column holds and in which unit."""
    return f"{column.quantity}_{column.unit}" if column.unit else column.quantity


def _values(outgoing: Outgoing) -> dict[str, Floats]:
    """Every quantity (n,) of a camera in the first of its units."""
    numbers, lens, image = outgoing.numbers(), outgoing.track.lens, outgoing.image
    used = lens.used(image, outgoing.fit)
    quaternion = continuous_quaternions(numbers.matrix[:, :3, :3])
    return {
        "frame": numbers.frames, "seconds": numbers.seconds,
        **{f"position_{a}": numbers.position[:, i] for i, a in enumerate("xyz")},
        **{f"rotation_{a}": numbers.rotation_deg[:, i] for i, a in enumerate("xyz")},
        **{f"quaternion_{a}": quaternion[:, i] for i, a in enumerate("xyzw")},
        "focal": numbers.focal_mm, "film_width": numbers.film_width_mm, "film_height": numbers.film_height_mm,
        "offset_x": lens.offset_x_mm, "offset_y": lens.offset_y_mm, "hfov": numbers.hfov_deg, "vfov": numbers.vfov_deg,
        "pixel_focal_x": image.width_px * lens.focal_mm / used.width_mm, "pixel_focal_y": image.height_px * lens.focal_mm / used.height_mm,
        "pixel_centre_x": image.width_px * (0.5 - lens.offset_x_mm / used.width_mm),
        "pixel_centre_y": image.height_px * (0.5 + lens.offset_y_mm / used.height_mm), "zoom": numbers.zoom_px, "squeeze": lens.squeeze, "focus": numbers.focus, "fstop": lens.fstop,
        NOTHING: np.zeros(len(numbers.frames)),
    }  # fmt: skip
