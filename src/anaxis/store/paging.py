"""Pages of rows by their key: the next page costs no more than the first, however far it lies in the list."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Generic, NamedTuple, TypeVar

from sqlalchemy import Select, literal, select, tuple_

T = TypeVar("T")


class RowsPage(NamedTuple, Generic[T]):
    """Rows, the newest first. The page of older rows is asked for with ``before``, that of newer ones with ``after``; None where
    there is no such page."""

    rows: list[T]
    before: int | None
    after: int | None


class Edge(NamedTuple):
    """Where a page of a table with a time and a number begins: at the newest row, below the row ``before``, or above the row
    ``after``."""

    time: Any
    number: Any
    before: int | None = None
    after: int | None = None

    @property
    def upward(self) -> bool:
        return self.before is None and self.after is not None

    @property
    def order(self) -> list[Any]:
        """The columns to sort a query by."""
        return [c if self.upward else c.desc() for c in (self.time, self.number)]

    def bounded(self, query: Select[T]) -> Select[T]:
        """A query of the rows beyond the edge; of none where the row at the edge is gone."""
        edge = self.after if self.upward else self.before
        if edge is None:
            return query
        # With the bound on the time alone, PostgreSQL leaves out whole partitions.
        at = select(self.time).where(self.number == edge).scalar_subquery()
        key, limit = tuple_(self.time, self.number), tuple_(at, literal(edge))
        return query.where(*((self.time >= at, key > limit) if self.upward else (self.time <= at, key < limit)))

    def page(self, found: Iterable[Any], most: int) -> RowsPage[Any]:
        """The page from the first ``most + 1`` rows that a query gave in :attr:`order`."""
        rows = list(found)
        further, rows = len(rows) > most, rows[:most]
        if self.upward:
            rows.reverse()
        older, newer = (True, further) if self.upward else (further, self.before is not None)
        if not rows:
            return RowsPage([], None, None)
        return RowsPage(rows, rows[-1].id if older else None, rows[0].id if newer else None)
