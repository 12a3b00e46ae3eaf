"""What the columns of a text table are: a layout that can be proposed, corrected, saved and used again.

A layout is plain JSON: for each column what it holds, its unit and its sign; the rotation order; and
the axes and unit the numbers are in, or none where those are to be guessed.
"""

from __future__ import annotations

import re
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats


class Quantity(NamedTuple):
    """``units`` maps the units a column may be in to the factor that brings it to the first one."""

    label: str
    units: dict[str, float]


_ANGLE = {"deg": 1.0, "rad": 180.0 / np.pi}
_LENGTH_MM = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "inch": 25.4}
_SECONDS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
# Rates at which cameras and trackers take their samples, a second; how near the usual step must be to one, and what share of the
# steps may stray from the usual one, by how much.
_USUAL_RATES = (24.0, 25.0, 30.0, 48.0, 50.0, 60.0, 72.0, 90.0, 100.0, 120.0, 240.0)
_NEAR_RATE, _STEADY, _STRAY = 0.03, 0.9, 0.25
_PLAIN: dict[str, float] = {"": 1.0}
NOTHING = "nothing"
_BY_LENGTH = "four numbers whose squares add up to one"
# Angles between these may be radians or degrees.
_LEAST_ANGLE, _FULL_TURN = 1e-3, 2 * np.pi + 1e-6
# So many columns are a place and a rotation: what else rises in a table of more may be its time.
_OF_A_POSE = 6

QUANTITIES: dict[str, Quantity] = {
    NOTHING: Quantity("not used", _PLAIN),
    "frame": Quantity("frame", _PLAIN),
    "seconds": Quantity("time", _SECONDS),
    **{f"position_{a}": Quantity(f"position {a.upper()}", _PLAIN) for a in "xyz"},
    **{f"rotation_{a}": Quantity(f"rotation {a.upper()}", _ANGLE) for a in "xyz"},
    **{f"quaternion_{a}": Quantity(f"quaternion {a}", _PLAIN) for a in "xyzw"},
    "focal": Quantity("focal length", _LENGTH_MM),
    "film_width": Quantity("film back width", _LENGTH_MM),
    "film_height": Quantity("film back height", _LENGTH_MM),
    "offset_x": Quantity("film offset right", _LENGTH_MM),
    "offset_y": Quantity("film offset up", _LENGTH_MM),
    "hfov": Quantity("horizontal field of view", _ANGLE),
    "vfov": Quantity("vertical field of view", _ANGLE),
    "zoom": Quantity("zoom", {"px": 1.0}),
    "pixel_focal_x": Quantity("focal length across, in pixels", {"px": 1.0}),
    "pixel_focal_y": Quantity("focal length up, in pixels", {"px": 1.0}),
    "pixel_centre_x": Quantity("principal point from the left", {"px": 1.0}),
    "pixel_centre_y": Quantity("principal point from the top", {"px": 1.0}),
    "squeeze": Quantity("squeeze", _PLAIN),
    "focus": Quantity("focus distance", _PLAIN),
    "fstop": Quantity("stop", _PLAIN),
}

# Headings as people write them; the first that fits is taken.
_HEADINGS: tuple[tuple[str, str], ...] = (
    (r"frames?|frm|f|frame ?(no|nr|number)", "frame"),
    (r"seconds?|secs?|time|t|ts|time ?stamps?|timestamps?|stamp|clock|t ?(ms|us|ns)", "seconds"),
    (r"f ?([xy])|focal ?([xy])|focal ?length ?([xy])", "pixel_focal_{1}"),
    (r"c ?([xy])|pp ?([xy])|principal ?point ?([xy])", "pixel_centre_{1}"),
    (r"(t|p|pos|position|translate|translation|trans|loc|location)? ?([xyz])", "position_{2}"),
    (r"(r|rot|rotate|rotation|turn|angle|euler) ?([xyz])", "rotation_{2}"),
    (r"(q|quat|quaternion|rot quat) ?([xyzw])", "quaternion_{2}"),
    (r"pitch|tilt", "rotation_x"),
    (r"yaw|heading|pan", "rotation_y"),
    (r"roll|bank", "rotation_z"),
    (r"(film|film ?back|aperture|sensor|back) ?(width|w|h? ?aperture)|h(orizontal)? ?aperture", "film_width"),
    (r"(film|film ?back|aperture|sensor|back) ?(height|v? ?aperture)|v(ertical)? ?aperture", "film_height"),
    (r"(film )?offset ?(x|right)|shift ?x", "offset_x"),
    (r"(film )?offset ?(y|up)|shift ?y", "offset_y"),
    (r"focal|focal ?length|lens", "focal"),
    (r"(h|x|horizontal) ?(fov|view|field of view)|fov ?(h|x)", "hfov"),
    (r"(v|y|vertical)? ?(fov|view|field of view)|fov ?(v|y)", "vfov"),
    (r"zoom", "zoom"),
    (r"squeeze|anamorphic", "squeeze"),
    (r"focus|focus ?distance", "focus"),
    (r"f ?stop|stop|f ?number|iris", "fstop"),
)
_UNIT_WORDS = {"deg": "deg", "degrees": "deg", "rad": "rad", "radians": "rad", "mm": "mm", "cm": "cm",
               "m": "m", "inch": "inch", "inches": "inch", "in": "inch", "ms": "ms", "s": "s", "us": "us", "ns": "ns", "millis": "ms", "milliseconds": "ms", "microseconds": "us", "nanoseconds": "ns",
               "sec": "s", "seconds": "s", "px": "px", "pixels": "px"}  # fmt: skip


class Column(NamedTuple):
    """What one column holds; ``why`` says how that was told, "" where a person chose it."""

    quantity: str
    unit: str = ""
    sign: int = 1
    why: str = ""

    @property
    def factor(self) -> float:
        units = QUANTITIES[self.quantity].units
        return self.sign * units[self.unit or next(iter(units))]


def columns_of(layout: dict[str, Any], count: int) -> list[Column]:
    """The columns of a layout, checked against a table of ``count`` columns. Raises BadInput."""
    out: list[Column] = []
    for i, entry in enumerate(layout.get("columns", [])):
        quantity, unit = str(entry.get("quantity", "")), str(entry.get("unit", "") or "")
        if quantity not in QUANTITIES:
            raise BadInput(f"Column {i + 1} is set to '{quantity}': choose one of {', '.join(QUANTITIES)}.")
        if unit and unit not in QUANTITIES[quantity].units:
            unit = ""
        out.append(Column(quantity, unit, -1 if entry.get("sign") == -1 else 1, str(entry.get("why", ""))))
    if len(out) != count:
        raise BadInput(f"The layout names {len(out)} columns and the table has {count}: choose another layout.")
    used = [c.quantity for c in out if c.quantity != NOTHING]
    twice = next((q for q in used if used.count(q) > 1), None)
    if twice:
        raise BadInput(f"Two columns are set to '{QUANTITIES[twice].label}': remove one of them.")
    return out


def propose(headings: list[str] | None, table: Floats, clocks: bool = True) -> list[Column]:
    """What each column of a table (rows, columns) is likely to be, from headings, else behaviour; without ``clocks`` no column
    is taken for a time that has no heading."""
    count = table.shape[1]
    found = [_by_heading(h) for h in headings] if headings else [None] * count
    columns: list[Column | None] = []
    taken: set[str] = set()
    for column in found:
        keep = column is not None and column.quantity not in taken
        columns.append(column if keep else None)
        if keep and column is not None:
            taken.add(column.quantity)
    _by_behaviour(columns, taken, table, clocks)
    for i, column in enumerate(columns):
        if column is not None and column.quantity == "seconds" and not column.unit:
            unit = time_unit(table[:, i])
            if unit not in (None, "s"):
                columns[i] = column._replace(unit=unit, why=f"{column.why}, in {unit} by its steps")
    return [c or Column(NOTHING, why="no quantity fits") for c in columns]


class Reading(NamedTuple):
    """One way in which a table may be meant: in a few words, and what its columns are then."""

    words: str
    columns: list[Column]


def readings(headings: list[str] | None, table: Floats) -> list[Reading]:
    """Every way in which a table may be meant, the likeliest first; one alone where the table leaves no doubt.

    Three things can be doubtful: whether a first column without a heading is a clock or a place, in which order the four numbers
    of a quaternion are, and whether small angles are radians or degrees. Each other reading differs in one of them.
    """
    first = propose(headings, table)
    doubts: list[tuple[str, str, list[Column]]] = []
    clock = next((i for i, c in enumerate(first) if c.quantity == "seconds"), None)
    if (
        headings is None
        and clock is not None
        and first[clock].unit in ("", "s")
        and not _wavers_as_a_clock(table[:, clock])
    ):
        place = propose(None, table, clocks=False)
        doubts.append(
            (f"column {clock + 1} is a time in seconds", f"column {clock + 1} is {_label(place[clock])}", place)
        )
    four = [i for i, c in enumerate(first) if c.quantity.startswith("quaternion") and c.why == _BY_LENGTH]
    if four:
        order = [*(f"quaternion_{a}" for a in "wxyz")]
        other = list(first)
        for quantity, i in zip(order, four, strict=True):
            other[i] = first[i]._replace(quantity=quantity)
        doubts.append(("the quaternion's order is x y z w", "the quaternion's order is w x y z", other))
    turns = [i for i, c in enumerate(first) if c.quantity.startswith("rotation")]
    if turns and not any(_says_unit(headings[i]) for i in turns if headings):
        largest = float(np.nanmax(np.abs(table[:, turns]), initial=0.0))
        if _LEAST_ANGLE < largest <= _FULL_TURN:
            unit = first[turns[0]].unit or "deg"
            other = list(first)
            for i in turns:
                other[i] = first[i]._replace(unit="deg" if unit == "rad" else "rad")
            names = {"deg": "the angles are in degrees", "rad": "the angles are in radians"}
            doubts.append((names[unit], names["deg" if unit == "rad" else "rad"], other))
    usual = "; ".join(so for so, _, _ in doubts)
    return [Reading(usual, first), *(Reading(otherwise, columns) for _, otherwise, columns in doubts)]


def _wavers_as_a_clock(values: Floats) -> bool:
    """Whether steps waver as a clock's do and no motion's: most are alike within a hundredth, and none is exactly the same."""
    steps = np.diff(values)
    usual = np.median(steps)
    wavers = np.abs(steps / usual - 1)
    return bool(0 < np.median(wavers) < 0.05 and (wavers > 1e-6).mean() > 0.5)


def _label(column: Column) -> str:
    return QUANTITIES[column.quantity].label


def _says_unit(heading: str) -> bool:
    found = _by_heading(heading)
    return found is not None and found.unit != ""


def _by_heading(heading: str) -> Column | None:
    words = re.sub(r"([a-z])([A-Z])", r"\1 \2", heading).lower()
    words = " ".join(re.split(r"[^a-z0-9]+", words)).strip()
    parts = words.split()
    unit = _UNIT_WORDS.get(parts[-1], "") if len(parts) > 1 else ""
    plain = " ".join(parts[:-1]) if unit else words
    for text in (words, plain):
        for pattern, quantity in _HEADINGS:
            fits = re.fullmatch(pattern, text)
            if fits:
                letter = next((g for g in reversed(fits.groups()) if g and g in "wxyz"), "")
                name = re.sub(r"\{[12]\}", letter, quantity)
                known = unit if unit in QUANTITIES[name].units else ""
                return Column(name, known, 1, f"its heading '{heading.strip()}'")
    return None


def _by_behaviour(columns: list[Column | None], taken: set[str], table: Floats, clocks: bool) -> None:
    """Fill what headings left open: rising whole numbers, then threes of places and of angles, then a lens."""
    open_ = [i for i, c in enumerate(columns) if c is None]

    def take(i: int, quantity: str, why: str, unit: str = "") -> None:
        columns[i] = Column(quantity, unit, 1, why)
        taken.add(quantity)
        open_.remove(i)

    for i in list(open_):
        values = table[:, i]
        steps = np.diff(values)
        if len(steps) == 0 or not np.isfinite(values).all() or not (steps > 0).all():
            continue
        unit = time_unit(values) if i <= 1 and len(open_) > _OF_A_POSE else None
        if clocks and unit not in (None, "s") and "seconds" not in taken and np.ptp(steps) > 0:
            take(i, "seconds", "whole numbers that increase by the step of a common rate, not always the same", unit)
        elif "frame" not in taken and (values == np.round(values)).all():
            take(i, "frame", "whole numbers that increase from row to row")
        elif clocks and "seconds" not in taken and i <= 1 and len(open_) > _OF_A_POSE and values[0] >= 0:
            unit = time_unit(values)  # a place that rises evenly begins anywhere and steps by no usual rate
            if unit is not None:
                take(i, "seconds", "numbers that increase from row to row by the step of a common rate", unit)
    if not {"position_x", "position_y", "position_z"} & taken and len(open_) >= 3:
        threes = [open_[k : k + 3] for k in range(len(open_) - 2)]
        runs = [t for t in threes if t[2] - t[0] == 2]
        if runs:
            # Threes that stand one behind the other first: columns are seldom shuffled.
            inorder = sorted(runs, key=lambda t: (t[0] - runs[0][0]) % 3)
            best = next((t for t in inorder if not _like_angles(table[:, t])), runs[0])
            for axis, i in zip("xyz", best, strict=True):
                take(i, f"position_{axis}", "the first three adjacent numbers that are not angles")
    if not {q for q in taken if q.startswith(("rotation", "quaternion"))}:
        four = [open_[k : k + 4] for k in range(len(open_) - 3)]
        for t in four:
            lengths = np.linalg.norm(table[:, t], axis=1)
            if t[3] - t[0] == 3 and np.allclose(lengths, 1.0, atol=1e-3):
                for axis, i in zip("xyzw", list(t), strict=True):
                    take(i, f"quaternion_{axis}", _BY_LENGTH)
                break
        else:
            for t in [open_[k : k + 3] for k in range(len(open_) - 2)]:
                values = table[:, t]
                if t[2] - t[0] == 2 and np.nanmax(np.abs(values)) <= 1080.0:
                    small = bool(np.nanmax(np.abs(values)) <= 2 * np.pi + 1e-6)
                    unit = "rad" if small and len(table) > 1 else "deg"
                    for axis, i in zip("xyz", list(t), strict=True):
                        take(
                            i,
                            f"rotation_{axis}",
                            f"three numbers within {'a turn in radians' if unit == 'rad' else 'three rotations in degrees'}",
                            unit,
                        )
                    break
    for i in list(open_):
        values = table[:, i]
        if (
            not {"focal", "hfov", "vfov", "zoom"} & taken
            and np.isfinite(values).all()
            and (values > 4).all()
            and (values < 400).all()
        ):
            take(i, "focal", "numbers between 4 and 400, as focal lengths", "mm")


def time_unit(values: Floats) -> str | None:
    """The unit in which a column's steps are those of a usual rate, the jitter of a clock aside; None where there is none."""
    steps = np.diff(values)
    if len(steps) < 2 or not (steps > 0).all():
        return None
    usual = float(np.median(steps))
    if (np.abs(steps / usual - np.maximum(1, np.round(steps / usual))) < _STRAY).mean() < _STEADY:
        return None
    for unit, factor in _SECONDS.items():
        if min(abs(usual * factor * rate - 1) for rate in _USUAL_RATES) < _NEAR_RATE:
            return unit
    return None


def _like_angles(values: Floats) -> bool:
    """Whether numbers wrap round at 360 or stay in a range that only angles have."""
    with np.errstate(invalid="ignore"):
        jumps = np.abs(np.diff(values, axis=0))
        wraps = bool(((jumps > 300) & (jumps < 420)).any())
        return wraps or bool(np.nanmax(np.abs(values)) <= np.pi + 1e-9 and np.nanmax(np.abs(values)) > 0)
