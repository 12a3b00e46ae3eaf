"""The months of the history: each is a table of its own, made before its first entry."""

from __future__ import annotations

import logging
from datetime import UTC, datetime

from sqlalchemy import Connection, Engine, text
from sqlalchemy.exc import OperationalError

_log = logging.getLogger("anaxis.history")
_AHEAD = 3
# Holds the entries of months without a table of their own: the clock was wrong, or no worker ran for three months.
_OTHERS = "history_other"
_LOCK = 7_204_119


def make_next_months(engine: Engine) -> None:
    """Make the tables of the next months that are missing. While a backup reads the history, they cannot be made: that is logged, and
    a later call makes them."""
    try:
        with engine.begin() as connection:
            connection.execute(text("SET LOCAL lock_timeout = '2s'"))  # readers of the history queue behind this lock
            make_partitions(connection)
    except OperationalError as error:
        _log.warning(
            "the history's tables for the next months were not made, and will be tried again in an hour: %s", error.orig
        )


def make_partitions(connection: Connection, since: datetime | None = None) -> None:
    """Make the tables that are missing, from the month of ``since`` to three months ahead. ``since`` is this month where None, and counts for
    at most 20 years.

    A month that already has entries in the table for other months gets no table: its entries stay there, and are read more slowly.
    """
    now = datetime.now(UTC)
    first = max(_month_of(since or now), _month_of(now) - 240)
    months = range(min(first, _month_of(now)), _month_of(now) + _AHEAD + 1)
    there = set(connection.execute(text("SELECT relid::regclass::text FROM pg_partition_tree('history')")).scalars())
    missing = [m for m in months if _name(m) not in there]
    if not missing and _OTHERS in there:
        return
    connection.execute(text("SELECT pg_advisory_xact_lock(:lock)"), {"lock": _LOCK})
    connection.execute(text(f"CREATE TABLE IF NOT EXISTS {_OTHERS} PARTITION OF history DEFAULT"))
    for month in missing:
        begin, end = _beginning(month), _beginning(month + 1)
        taken = text(f"SELECT FROM {_OTHERS} WHERE at >= :begin AND at < :end LIMIT 1")
        if connection.execute(taken, {"begin": begin, "end": end}).first() is None:
            connection.execute(
                text(
                    f"CREATE TABLE IF NOT EXISTS {_name(month)} PARTITION OF history FOR VALUES FROM ('{begin}') TO ('{end}')"
                )
            )


def _month_of(at: datetime) -> int:
    """Months since the year 0, in UTC."""
    at = at.astimezone(UTC)
    return at.year * 12 + at.month - 1


def _name(month: int) -> str:
    return f"history_{month // 12:04}_{month % 12 + 1:02}"


def _beginning(month: int) -> str:
    return f"{month // 12:04}-{month % 12 + 1:02}-01 00:00:00+00"
