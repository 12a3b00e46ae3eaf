"""Numbers of a camera typed or pasted by hand, as a table that the stand-in reads."""

from __future__ import annotations

import math
import re

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.formats.tables.write import SEPARATORS
from anaxis.packages.model import Profile

_HEADINGS = "frame,seconds,position_x,position_y,position_z,rotation_x_deg,rotation_y_deg,rotation_z_deg,focal_mm,film_width_mm,film_height_mm"


def package_table(text: str, package: Profile) -> str | None:
    """Pasted rows as a table of the package's own layout; None where it has none or they have other columns."""
    rule = package.table
    if rule is None:
        return None
    rows = [[p for p in re.split(r"[\s,;]+", line.strip()) if p] for line in text.strip().splitlines()]
    if rows and not re.match(r"^[-+.\d]", rows[0][0] if rows[0] else ""):
        rows = rows[1:]
    if len(rows) < 3 or any(len(r) != len(rule.columns) for r in rows):
        return None
    separator = SEPARATORS[rule.separator]
    head = [[c.quantity for c in rule.columns]] if rule.headings else []
    return "".join(separator.join(r) + "\n" for r in [*head, *rows])


def table_of_numbers(text: str, meant: Track) -> str:
    """Typed rows of frame, position and angles (and focal length, film back) as a table. Raises BadInput naming the row."""
    rows = [_HEADINGS + ",offset_x_mm,offset_y_mm,squeeze"]
    for number, line in enumerate(text.strip().splitlines(), 1):
        parts = [p for p in re.split(r"[\s,;]+", line.strip()) if p]
        if number == 1 and not re.match(r"^[-+.\d]", parts[0] if parts else ""):
            continue
        try:
            values = [float(p) for p in parts]
        except ValueError as error:
            raise BadInput(
                f"Row {number} of the numbers holds '{line.strip()[:40]}': type frame, x, y, z and the three angles."
            ) from error
        if len(values) not in (7, 8, 10):
            raise BadInput(
                f"Row {number} of the numbers has {len(values)} values: type frame, x, y, z and three angles; optionally focal length, film back width and height."
                ""
            )
        at = int(np.argmin(np.abs(meant.frames - values[0])))
        lens = meant.lens
        focal = values[7] if len(values) > 7 else float(lens.focal_mm[at])
        film = values[8:10] if len(values) == 10 else [float(lens.film_width_mm[at]), float(lens.film_height_mm[at])]
        seconds = values[0] * meant.rate.denominator / meant.rate.numerator
        row = [
            values[0],
            seconds,
            *values[1:7],
            focal,
            *film,
            float(lens.offset_x_mm[at]),
            float(lens.offset_y_mm[at]),
            float(lens.squeeze[at]),
        ]
        rows.append(",".join(repr(v) for v in row))
    if len(rows) < 4:
        raise BadInput("Type three frames or more, one in each row, to find the cause.")
    return "\n".join(rows) + "\n"


def number_or_none(text: str, what: str) -> float | None:
    """A number from a form's field, None where it was left empty; raises BadInput."""
    if not text.strip():
        return None
    try:
        value = float(text)
    except ValueError as error:
        raise BadInput(f"'{text}' is not a number: type a number ({what}), or leave the field empty.") from error
    if not math.isfinite(value):
        raise BadInput(f"'{text}' is not a number: type a number ({what}), or leave the field empty.")
    return value
