"""A row by its number; needs nothing of what rows hold, so that whoever asks for work starts at once."""

from __future__ import annotations

from typing import TypeVar

from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput

Row = TypeVar("Row")


class NotFound(BadInput):
    """Something asked for by its number is not in the store."""

    code = "not_found"


def found(session: Session, model: type[Row], number: int, what: str) -> Row:
    """The row of that number; raises NotFound in words about ``what``."""
    row = session.get(model, number)
    if row is None:
        raise NotFound(f"There is no {what} {number}: choose one on Shots.")
    return row
