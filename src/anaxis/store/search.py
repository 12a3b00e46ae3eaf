"""Search by PostgreSQL's own text search. Migration 0032 has the functions, and an index for each vector here."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy import ColumnElement, func, literal_column
from sqlalchemy.dialects.postgresql import TSVECTOR
from sqlalchemy.orm import InstrumentedAttribute

_SIMPLE: ColumnElement[Any] = literal_column("'simple'::regconfig")


def words_of(text: str) -> list[str]:
    """The words of a text, in lower case."""
    return re.findall(r"[^\W_]+", text.lower())


def query_of(words: list[str]) -> ColumnElement[Any]:
    """Rows with every word, each of which may be the beginning of a longer one."""
    return func.to_tsquery(_SIMPLE, " & ".join(f"'{word}':*" for word in words))


def name_vector(name: ColumnElement[str] | InstrumentedAttribute[str]) -> ColumnElement[Any]:
    """The parts of a name as a text search sees them: TW_010_camera_v001.usd is found by "010 camera"."""
    return func.name_words(name, type_=TSVECTOR)


def findings_vector(findings: ColumnElement[Any] | InstrumentedAttribute[list[Any]]) -> ColumnElement[Any]:
    """The words of all findings of a version."""
    return func.findings_words(findings, type_=TSVECTOR)
