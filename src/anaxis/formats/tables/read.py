"""Reading column text: one row a frame, separated by commas, semicolons, tabs or blanks.

What each column is comes from a layout (:mod:`anaxis.formats.tables.layout`), or is proposed from
headings and behaviour and said to be a guess.
"""

from __future__ import annotations

import codecs
import csv
import re
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.bounds import MAX_FRAMES, MAX_SIDE_PX
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.scene.flips import angle_flips
from anaxis.core.scene.guesses import guess_rate, with_guesses
from anaxis.core.scene.nodes import Node, Scene, snapped
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import matrices_from_angles
from anaxis.core.time.rates import nearest_rate, parse_rate, rate_label
from anaxis.core.typing import Floats
from anaxis.formats.tables.layout import Column, Reading, columns_of, readings
from anaxis.formats.text_numbers import numbers_in
from anaxis.formats.track_json.document import convention_from_document
from anaxis.formats.views import FILM_WIDTH_MM

_SHOWN_ROWS = 5
_ASPECT, _IMAGE_WIDTH_PX = 16 / 9, 1920.0
_MAX_COLUMNS = 200
_OFF_FRAME = 0.02
# Times that begin later than this are a clock's: no shot is numbered so.
_CLOCK_S = 20_000.0
# Sizes that pictures have for the most part, and how far twice a principal point may be from one.
_USUAL_SIZES = (
    (1920, 1080),
    (1920, 1440),
    (1280, 720),
    (3840, 2160),
    (4032, 3024),
    (640, 480),
    (4096, 2160),
    (1440, 1080),
    (2880, 2160),
)
_NEAR_SIZE = 0.03


def read_columns(path: Path, within: Path | None = None, layout: dict[str, Any] | None = None) -> Scene:
    """Read a table as one camera; raises BadInput, naming the row, where it cannot be read."""
    headings, rows, delimiter = cells_of(text_of(path.read_bytes()), path.name)
    table = _numbers(rows, path.name, 1 if headings else 0)
    ways = [] if layout else readings(headings, table)
    columns = columns_of(layout, table.shape[1]) if layout else ways[0].columns
    by_name = {c.quantity: (i, c) for i, c in enumerate(columns)}

    def values(name: str) -> Floats | None:
        if name not in by_name:
            return None
        i, column = by_name[name]
        return table[:, i] * column.factor

    guesses: dict[str, str] = {}
    if not layout:
        also = f"; or {', or '.join(w.words for w in ways[1:])}" if len(ways) > 1 else ""
        guesses["columns"] = (
            f"Anaxis told each column by its heading and values{': ' + ways[0].words + also if also else ''}"
        )
    spoken = (layout or {}).get("convention")
    convention = convention_from_document(spoken) if spoken else Convention(metres_per_unit=1.0)
    order = (layout or {}).get("order")
    if order:
        convention = replace(convention, order=str(order))
    elif not spoken and any(f"rotation_{a}" in by_name for a in "xyz") and "quaternion_w" not in by_name:
        guesses["order"] = f"a table does not state its rotation order; Anaxis assumes {convention.order}"
    rate, frames = _time(values("frame"), values("seconds"), (layout or {}).get("rate"), guesses, len(table))
    if len(frames) > 1 and (np.diff(frames) <= 0).any():
        at = int(np.argmax(np.diff(frames) <= 0)) + 1
        raise BadInput(
            f"{path.name}, row {at + 1 + bool(headings)}: its frame {frames[at]:g} does not follow {frames[at - 1]:g}; "
            "sort the rows by frame, or choose another column for the frame."
        )
    image = _image_of_centre(values)
    lens, fit = _lens(values, convention.metres_per_unit, len(table), guesses, image)
    moving = len(table) > 1
    node = Node(
        "/" + (re.sub(r"[^A-Za-z0-9_.-]+", "_", path.stem) or "camera"), None, "camera", frames,
        _local(values, convention, len(table), path.name), frames if moving else np.zeros(0), lens=lens,
        lens_frames=frames if moving else np.zeros(0), lens_keys=frames if moving else np.zeros(0),
    )  # fmt: skip
    if "lens" in guesses:
        guesses[f"lens:{node.path}"] = guesses.pop("lens")
    flips = [
        angle_flips(node.path, f"The rotation about {a.upper()}", frames, column)
        for a in "xyz"
        if (column := values(f"rotation_{a}")) is not None
    ]
    scene = Scene(
        findings=tuple(f for f in flips if f is not None),
        name=path.name, format="columns", convention=convention, rate=rate,
        first_frame=float(frames[0]), last_frame=float(frames[-1]), nodes=(node,), source_fit=fit, image=image,
        in_seconds="frame" not in by_name and "seconds" in by_name, guesses=guesses,
    )  # fmt: skip
    scene = with_guesses(scene, up_axis=not spoken, metres_per_unit=not spoken)
    return replace(scene, columns=_preview(headings, rows, delimiter, columns, layout or {}, ways))


def _preview(
    headings: list[str] | None, rows: list[list[str]], delimiter: str, columns: list[Column], layout: dict[str, Any], ways: list[Reading]
) -> dict[str, Any]:  # fmt: skip
    """What the picker shows: the first rows, the layout in force, and the readings where there are several."""
    return {
        "headings": headings,
        "rows": [[cell[:40] for cell in row] for row in rows[:_SHOWN_ROWS]],
        "count": len(rows),
        "delimiter": {",": "commas", ";": "semicolons", "\t": "tabs"}.get(delimiter, "blanks"),
        "layout": {"columns": _listed(columns), **{k: layout.get(k) for k in ("convention", "axes", "order", "rate")}},
        "readings": [{"words": w.words, "columns": _listed(w.columns)} for w in ways] if len(ways) > 1 else [],
    }


def _listed(columns: list[Column]) -> list[dict[str, Any]]:
    return [{"quantity": c.quantity, "unit": c.unit, "sign": c.sign, "why": c.why} for c in columns]


def text_of(data: bytes) -> str:
    """The text of a file: UTF-16 where it begins with that mark, as spreadsheets write "Unicode text", else UTF-8."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", errors="replace")
    return data.decode("utf-8-sig", errors="replace")


def cells_of(text: str, name: str, least: int = 3) -> tuple[list[str] | None, list[list[str]], str]:
    """Headings (None where there are none), rows of cells, and what separates them; of ``least`` columns. Raises BadInput."""
    if "\0" in text[:4096]:
        raise BadInput(f"{name} is not text: export the table as plain text.")
    lines = [x for x in text.splitlines() if x.strip() and not x.lstrip().startswith(("#", "//"))]
    if not lines:
        raise BadInput(f"{name} holds no rows: export it again.")
    delimiter = next((d for d in ("\t", ";", ",") if d in lines[0]), " ")
    if delimiter == " ":
        rows = [x.split() for x in lines]
    else:
        try:
            rows = [[c.strip() for c in row] for row in csv.reader(lines, delimiter=delimiter)]
        except csv.Error as error:
            raise BadInput(f"{name} cannot be read as a table: {error}; export it again.") from error
    # A separator at the end of every row makes an empty last column.
    if all(row and row[-1] == "" for row in rows):
        rows = [row[:-1] for row in rows]
    if delimiter != "," and "," in text:
        rows = [[c.replace(",", ".") if c.count(",") == 1 and "." not in c else c for c in row] for row in rows]
    if not least <= len(rows[0]) <= _MAX_COLUMNS:
        whose = "a camera needs at least three" if least == 3 else f"there must be {least} to {_MAX_COLUMNS}"
        raise BadInput(
            f"{name} has {len(rows[0])} column{'s' * (len(rows[0]) != 1)}: {whose}, one "
            "row a frame, separated by commas, semicolons, tabs or blanks."
        )
    if any(is_number(c) for c in rows[0]):
        return None, rows, delimiter
    if len(rows) < 2:
        raise BadInput(f"{name} has headings and no rows: export it again.")
    return rows[0], rows[1:], delimiter


def is_number(cell: str) -> bool:
    """Whether a cell reads as a number."""
    try:
        float(cell)
    except ValueError:
        return False
    return True


def _numbers(rows: list[list[str]], name: str, skipped: int) -> Floats:
    """The cells as numbers (rows, columns); empty ones are not a number."""
    if len(rows) > MAX_FRAMES:
        raise BadInput(
            f"{name} has {len(rows)} rows; at most {MAX_FRAMES} frames are possible: export only the range of the shot."
        )
    width = len(rows[0])
    for number, row in enumerate(rows, 1 + skipped):
        if len(row) != width:
            raise BadInput(
                f"{name}, row {number}, has {len(row)} cells where the first has {width}: the table breaks off or "
                "mixes separators; export it again."
            )
    flat = [cell or "nan" for row in rows for cell in row]
    try:
        # A cell with a blank in it would count as two numbers.
        values = numbers_in(" ".join(flat))
        if len(values) != len(flat) or any(" " in c for c in flat[:width]):
            raise ValueError
        return values.reshape(-1, width)
    except ValueError:
        at = next((i for i, c in enumerate(flat) if not is_number(c)), 0)
        raise BadInput(
            f"{name}, row {at // width + 1 + skipped}, column {at % width + 1}: '{flat[at][:40]}' is not a number; "
            "correct the cell, or leave the row out."
        ) from None


def _time(
    frames: Floats | None, seconds: Floats | None, rate_text: str | None, guesses: dict[str, str], count: int
) -> tuple[Fraction, Floats]:
    rate: Fraction | None = parse_rate(rate_text) if rate_text else None
    for what, column in (("frame", frames), ("time", seconds)):
        if column is not None and not np.isfinite(column).all():
            raise BadInput(
                f"The {what} column has an empty cell in row {int(np.argmin(np.isfinite(column))) + 1}: fill it in."
            )
    if rate is None and frames is not None and seconds is not None and count > 1 and np.ptp(seconds) > 0:
        rate = nearest_rate(float(np.ptp(frames) / np.ptp(seconds)))
        guesses["rate"] = "worked out from the frame and time columns"
    if rate is None:
        if seconds is not None and frames is None:
            rate, guesses["rate"] = guess_rate(seconds)
        else:
            rate, guesses["rate"] = Fraction(24), "the table has no times; Anaxis assumes 24"
    if frames is not None:
        return rate, frames
    if seconds is not None:
        at = snapped(seconds * float(rate))
        clock = seconds[0] > _CLOCK_S
        if abs(at[0] - np.round(at[0])) > _OFF_FRAME or clock:
            guesses["frames"] = (
                f"the times begin at {seconds[0]:.10g} s, "
                + ("as a clock shows that ran before" if clock else f"on no frame at {rate_label(rate)} a second")
                + "; the first row is counted as frame 0"
            )
            at = snapped((seconds - seconds[0]) * float(rate))
        return rate, at
    guesses["frames"] = "no column holds frame numbers; rows are counted from 1"
    return rate, np.arange(1.0, count + 1)


def _local(values: Any, convention: Convention, count: int, name: str) -> Floats:
    local = np.tile(np.eye(4), (count, 1, 1))
    for i, axis in enumerate("xyz"):
        column = values(f"position_{axis}")
        if column is not None:
            local[:, i, 3] = column
    quaternion = [values(f"quaternion_{a}") for a in "xyzw"]
    if all(q is not None for q in quaternion):
        turns = np.stack(quaternion, axis=1)
        good = np.isfinite(turns).all(axis=1)
        if (np.linalg.norm(turns[good], axis=1) < 1e-9).any():
            raise BadInput(f"{name} has a quaternion without length: choose other columns, or correct that row.")
        local[good, :3, :3] = scipy.spatial.transform.Rotation.from_quat(turns[good]).as_matrix()
        local[~good, :3, :3] = np.nan
        return local
    angles = np.zeros((count, 3))
    for i, axis in enumerate("xyz"):
        column = values(f"rotation_{axis}")
        if column is not None:
            angles[:, i] = column
    local[:, :3, :3] = matrices_from_angles(angles, convention.order, convention.signs)
    return local


def _image_of_centre(values: Any) -> Image | None:
    """The picture's size where a table has a principal point: twice that, or the usual size beside it, upright or not."""
    across, down = values("pixel_centre_x"), values("pixel_centre_y")
    if across is None or down is None or values("pixel_focal_x") is None:
        return None
    wide, high = 2 * float(np.nanmedian(across)), 2 * float(np.nanmedian(down))
    if not (np.isfinite([wide, high]).all() and min(wide, high) >= 16 and max(wide, high) <= MAX_SIDE_PX):
        return None
    sizes = [size for pair in _USUAL_SIZES for size in (pair, pair[::-1])]
    near = min(sizes, key=lambda s: abs(s[0] / wide - 1) + abs(s[1] / high - 1))
    fits = max(abs(near[0] / wide - 1), abs(near[1] / high - 1)) < _NEAR_SIZE
    return Image(*near) if fits else Image(round(wide), round(high))


def _lens(
    values: Any, metres_per_unit: float, count: int, guesses: dict[str, str], image: Image | None
) -> tuple[Lens, str | None]:
    """The lens from whichever of its quantities the table has, and the fit that keeps what is stated."""
    width, height, focal = values("film_width"), values("film_height"), values("focal")
    hfov, vfov, zoom, squeeze = values("hfov"), values("vfov"), values("zoom"), values("squeeze")
    fit: str | None = None
    squeeze = np.ones(count) if squeeze is None else squeeze
    if width is None:
        width = np.full(count, FILM_WIDTH_MM) if height is None else height * _ASPECT
        guesses["lens"] = f"the table has no film back; Anaxis assumes a width of {width[0]:g} mm"
    if height is None:
        height = squeeze * width / (_ASPECT if image is None else image.aspect)
    offset_x, offset_y = values("offset_x"), values("offset_y")
    if focal is None and image is not None:
        # Pixels of the picture: x = f_x X / Z + c_x, y down.
        focal, fit = values("pixel_focal_x") * width / image.width_px, "width"
        offset_x = (0.5 - values("pixel_centre_x") / image.width_px) * width
        offset_y = (values("pixel_centre_y") / image.height_px - 0.5) * height
        guesses["lens"] = (
            f"focal length and principal point are in pixels of a picture of {image.width_px} x {image.height_px} px, from the "
            f"principal point, on a film back {width[0]:g} mm wide"
        )
    if focal is None:
        with np.errstate(invalid="ignore", divide="ignore"):
            if hfov is not None:
                focal, fit = squeeze * width / 2 / np.tan(np.radians(hfov) / 2), "width"
            elif vfov is not None:
                focal, fit = height / 2 / np.tan(np.radians(vfov) / 2), "height"
            elif (zoom := values("pixel_focal_x") if zoom is None else zoom) is not None:
                focal, fit = zoom * squeeze * width / _IMAGE_WIDTH_PX, "width"
                guesses["lens"] = (
                    f"zoom is in pixels of an image {_IMAGE_WIDTH_PX:g} px wide, on a film back {width[0]:g} mm wide"
                )
            else:
                focal = np.full(count, 50.0)
                guesses["lens"] = "the table has no lens; Anaxis assumes 50 mm on a film back of 36 mm"

    def other(name: str, neutral: float, scale: float = 1.0) -> Floats:
        column = values(name)
        return np.full(count, neutral) if column is None else column * scale

    return make_lens(
        count, focal_mm=focal, film_width_mm=width, film_height_mm=height, squeeze=squeeze,
        offset_x_mm=np.zeros(count) if offset_x is None else offset_x,
        offset_y_mm=np.zeros(count) if offset_y is None else offset_y,
        focus_m=other("focus", np.nan, metres_per_unit), fstop=other("fstop", np.nan),
    ), fit  # fmt: skip
