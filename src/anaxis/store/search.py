"""Search by PostgreSQL's own text search. Migration 0030 has an index for each vector here."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy import ColumnElement, func, literal_column
from sqlalchemy.dialects.postgresql import TSVECTOR
from sqlalchemy.orm import InstrumentedAttribute

_SIMPLE: ColumnElement[Any] = literal_column("'simple'::regconfig")
# Names are of parts with these between them: TW_010_camera_v001.usd is found by "010 camera".
_BETWEEN: ColumnElement[Any] = literal_column("'_./\\:|-'")
_BLANKS: ColumnElement[Any] = literal_column("'       '")


def words_of(text: str) -> list[str]:
    """The words of a text, in lower case."""
    return re.findall(r"[^\W_]+", text.lower())


def query_of(words: list[str]) -> ColumnElement[Any]:
    """Rows with every word, each of which may be the beginning of a longer one."""
    return func.to_tsquery(_SIMPLE, " & ".join(f"'{word}':*" for word in words))


def name_vector(name: InstrumentedAttribute[str]) -> ColumnElement[Any]:
    """The parts of a name as a text search sees them."""
    return func.to_tsvector(_SIMPLE, func.translate(name, _BETWEEN, _BLANKS), type_=TSVECTOR)


def findings_vector(findings: InstrumentedAttribute[list[Any]]) -> ColumnElement[Any]:
    """The words of all findings of a version."""
    every: ColumnElement[Any] = literal_column("'[\"string\"]'::jsonb")
    return func.jsonb_to_tsvector(_SIMPLE, findings, every, type_=TSVECTOR)
