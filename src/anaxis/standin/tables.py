"""Column text, by the package's own layout or by the headings it has."""

from __future__ import annotations

import csv
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

import numpy as np
import scipy

from anaxis.core.errors import BadInput
from anaxis.core.time.rates import nearest_rate, parse_rate
from anaxis.core.typing import Floats
from anaxis.packages.model import TableRule
from anaxis.standin.package_values import own_views, turned
from anaxis.standin.views import FileViews, ReadRequest, inscribed


def column_views(path: Path, asked: ReadRequest) -> FileViews:
    """A table by the package's own layout, or by the headings it has; what it does not hold is as it was typed."""
    profile, image, at = asked.profile, asked.image, asked.at
    column = _by_layout(path, profile.table) if profile.table is not None else _by_headings(path)
    numbers, seconds = column.get("frame"), column.get("seconds")
    if numbers is None:
        rate = asked.rate or parse_rate(profile.time.rate)
        numbers = np.round(column["seconds"] * float(rate), 4)
    elif seconds is not None and len(numbers) > 1 and seconds[-1] > seconds[0]:
        rate = nearest_rate(float((numbers[-1] - numbers[0]) / (seconds[-1] - seconds[0])))
    else:
        rate = asked.rate or parse_rate(profile.time.rate)
    own = numbers
    if at is not None and not np.array_equal(at, numbers):
        column = {k: np.interp(at, numbers, v) for k, v in column.items()}
        numbers = at
    position = np.stack([column[f"position_{a}"] for a in "xyz"], axis=1)
    if "quaternion_w" in column:
        rotation = scipy.spatial.transform.Rotation.from_quat(
            np.stack([column[f"quaternion_{a}"] for a in "xyzw"], axis=1)
        ).as_matrix()
    else:
        angles = np.stack([column[f"rotation_{a}_deg"] for a in "xyz"], axis=1) * profile.rotation.signs
        rotation = turned(angles, profile.rotation.order)
    lens = _column_lens(column, asked, len(numbers))
    views = own_views(
        path.stem, numbers, rate, position, rotation, lens, profile.camera, profile.world, profile.metres_per_unit, image
    )  # fmt: skip
    return replace(views, own_frames=own, stated=frozenset({"rate"} if seconds is not None else ()))


def _numbers(lines: Iterable[str], separator: str) -> Floats:
    """The cells of rows, (n, c); an empty one is none."""
    return np.loadtxt(
        lines,
        delimiter=None if separator == " " else separator,
        comments=None,
        quotechar='"',
        ndmin=2,
        converters=lambda cell: float(cell.strip() or "nan"),
    )


def _by_headings(path: Path) -> dict[str, Floats]:
    with path.open(encoding="utf-8", newline="") as source:
        names = next(csv.reader(source))
        return dict(zip(names, _numbers(source, ",").T, strict=True))


# What one of a table's units is in the unit of the names used here.
_TABLE_UNITS = {"rad": np.degrees(1.0), "cm": 10.0, "m": 1000.0, "inch": 25.4, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
_IN_DEGREES, _IN_MM, _IN_PX = ("rotation", "hfov", "vfov"), ("focal", "film", "offset"), ("zoom", "pixel")


def _by_layout(path: Path, rule: TableRule) -> dict[str, Floats]:
    """The columns of a table under their plain names. Raises BadInput for a row with more or fewer cells."""
    separator = {"comma": ",", "semicolon": ";", "tab": "\t", "blank": " "}[rule.separator]
    lines = [
        x for x in path.read_text(encoding="utf-8").splitlines() if x.strip() and not x.lstrip().startswith(("#", "//"))
    ]
    try:
        table = _numbers(lines[rule.headings :], separator)
    except ValueError:
        _require_whole_rows(path, lines, separator, rule)
        raise
    if table.shape[1] != len(rule.columns):
        _require_whole_rows(path, lines, separator, rule)
    out = {}
    for i, held in enumerate(rule.columns):
        kind = held.quantity.split("_")[0]
        name = held.quantity + (
            "_deg" if kind in _IN_DEGREES else "_mm" if kind in _IN_MM else "_px" if kind in _IN_PX else ""
        )
        values = table[:, i]
        out[name] = values * held.sign * _TABLE_UNITS.get(held.unit, 1.0)
    return out


def _require_whole_rows(path: Path, lines: list[str], separator: str, rule: TableRule) -> None:
    """Raise BadInput naming the first row that has another number of cells than the layout has columns."""
    for i, row in enumerate(lines[rule.headings :], 1 + rule.headings):
        cells = len(row.split()) if separator == " " else len(next(csv.reader([row], delimiter=separator)))
        if cells != len(rule.columns):
            raise BadInput(
                f"{path.name}, row {i}, has {cells} cells and the package's layout has {len(rule.columns)} columns: "
                "export the table again, or change the layout."
            )


def _column_lens(column: dict[str, Floats], asked: ReadRequest, count: int) -> dict[str, Floats]:
    """The lens of a table: what it does not say is as a person typed it there, else a full frame without offsets."""
    otherwise = {"film_width_mm": 36.0, "film_height_mm": 24.0, "offset_x_mm": 0.0, "offset_y_mm": 0.0, "squeeze": 1.0}
    lens = {k: column.get(k, np.full(count, (asked.typed or {}).get(k, v))) for k, v in otherwise.items()}
    wide = lens["squeeze"] * lens["film_width_mm"]
    shown_width, shown_height = inscribed(wide, lens["film_height_mm"], asked.image, asked.profile.lens.fit)
    if "focal_mm" in column:
        lens["focal_mm"] = column["focal_mm"]
    elif "hfov_deg" in column:
        lens["focal_mm"] = shown_width / 2 / np.tan(np.radians(column["hfov_deg"]) / 2)
    elif "vfov_deg" in column:
        lens["focal_mm"] = shown_height / 2 / np.tan(np.radians(column["vfov_deg"]) / 2)
    elif "zoom_px" in column:
        lens["focal_mm"] = column["zoom_px"] * shown_width / asked.image.width_px
    elif "pixel_focal_x_px" in column:
        lens["focal_mm"] = column["pixel_focal_x_px"] * shown_width / asked.image.width_px
    else:
        lens["focal_mm"] = np.full(count, (asked.typed or {}).get("focal_mm", 50.0))
    for name, size, shown, side in (
        ("x", asked.image.width_px, shown_width, -1.0), ("y", asked.image.height_px, shown_height, 1.0)
    ):  # fmt: skip
        centre = column.get(f"pixel_centre_{name}_px")
        if centre is not None and f"offset_{name}_mm" not in column:
            lens[f"offset_{name}_mm"] = side * (centre / size - 0.5) * shown
    if "fstop" in column:
        lens["fstop"] = column["fstop"]
    if "focus" in column:
        lens["focus_m"] = column["focus"] * asked.profile.metres_per_unit
    return lens
