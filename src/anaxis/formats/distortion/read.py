"""Reading a distortion: its document, or a table with a heading for each coefficient and one row a frame.

The document's published description is ``distortion.schema.json`` beside this file.
"""

from __future__ import annotations

import csv
import json
from functools import cache
from importlib.resources import files
from itertools import pairwise
from pathlib import Path
from typing import Any

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.distortion.models import model_of, usual_of
from anaxis.core.errors import BadInput

SUFFIXES = (".json", ".csv", ".txt")
_MAX_BYTES = 50_000_000
_FRAME = "frame"


@cache
def distortion_schema() -> dict[str, Any]:
    text = files("anaxis.formats.distortion").joinpath("distortion.schema.json").read_text(encoding="utf-8")
    schema: dict[str, Any] = json.loads(text)
    return schema


def read_distortion(data: bytes, name: str, model: str = "") -> dict[str, Any]:
    """The document in a file's bytes, checked. A table has no model of its own: ``model`` says it, else its headings do.

    Where a table numbers its frames they come as ``frames``. Raises BadInput.
    """
    if len(data) > _MAX_BYTES:
        raise BadInput(f"{name} is too large for a distortion: use only its coefficients.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadInput(f"{name} is not text: a distortion is a JSON document or a table of coefficients.") from error
    document = _parsed(text, name) if text.lstrip().startswith(("{", "[")) else _from_table(text, name, model)
    frames = document.pop("frames", None) if isinstance(document, dict) else None
    found = distortion_from_document(document, name)
    if frames is None:
        return found.document()
    if not (isinstance(frames, list) and all(isinstance(f, int | float) for f in frames)):
        raise BadInput(f"{name}: 'frames' must be a list of frame numbers.")
    if any(b <= a for a, b in pairwise(frames)):
        raise BadInput(f"{name}: its frames must increase without duplicates.")
    if found.frames not in (1, len(frames)):
        raise BadInput(
            f"{name} has {len(frames)} frames and lists of {found.frames} numbers: give one number for each frame."
        )
    return {**found.document(), "frames": frames} if found.frames > 1 else found.document()


def read_distortion_file(path: Path, model: str = "") -> dict[str, Any]:
    """:func:`read_distortion` of a file. Raises BadInput."""
    try:
        return read_distortion(path.read_bytes(), path.name, model)
    except OSError as error:
        raise BadInput(f"The distortion {path} cannot be read ({error.strerror}): check the name.") from error


def _parsed(text: str, name: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadInput(f"The distortion {name} is not readable JSON: save it again.") from error


def _from_table(text: str, name: str, model: str) -> dict[str, Any]:
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    if len(lines) < 2:
        raise BadInput(
            f"{name} has no table: write a row of headings, such as frame,k1,k2, and one row for each frame."
        )
    if len(lines) > MAX_FRAMES + 1:
        raise BadInput(f"{name} has {len(lines) - 1} rows: at most {MAX_FRAMES} are read.")
    rows = list(csv.reader(lines)) if "," in lines[0] else [line.split() for line in lines]
    heads = [h.strip().lower() for h in rows[0]]
    kind = model_of(model or _model_of(heads, name))
    known = (_FRAME, *usual_of(kind))
    for head in heads:
        if head not in known:
            raise BadInput(
                f"{name}: '{head[:40]}' is not a coefficient of {kind.label}: choose one of {', '.join(known[1:])}."
            )
    columns: dict[str, list[float]] = {h: [] for h in heads}
    if len(columns) != len(heads):
        raise BadInput(f"{name} names a column twice: each heading is once.")
    for number, row in enumerate(rows[1:], 2):
        if len(row) != len(heads):
            raise BadInput(f"{name}, row {number}: there are {len(row)} values for {len(heads)} headings.")
        for head, value in zip(heads, row, strict=True):
            try:
                columns[head].append(float(value))
            except ValueError as error:
                raise BadInput(
                    f"{name}, row {number}: '{value.strip()[:40]}' under '{head}' is not a number."
                ) from error
    frames = columns.pop(_FRAME, None)
    document: dict[str, Any] = {"model": kind.code}
    document |= {k: v[0] if len(set(v)) == 1 else v for k, v in columns.items()}
    return document if frames is None else document | {"frames": frames}


def _model_of(heads: list[str], name: str) -> str:
    """The model by its headings: k1 and k2 alone belong to two."""
    given = set(heads) - {_FRAME}
    if given & {"p1", "p2"}:
        return "radial-tangential"
    if any(h[:1] in "ab" and h[1:].isdigit() for h in given):
        return "anamorphic"
    if "k" in given:
        return "division"
    raise BadInput(
        f"{name} does not name the model of its coefficients: choose it, or write a JSON document with its model."
    )
