"""The store that DATABASE_URL names, as commands use it: one transaction, kept where all went well."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from anaxis.core.errors import BadInput

if TYPE_CHECKING:
    from sqlalchemy import Engine

    from anaxis.app.context import Context
    from anaxis.store.models import Show


def database_url() -> str:
    """The address of the database. Raises BadInput where none is named."""
    url = os.environ.get("DATABASE_URL")
    if not url:
        raise BadInput("DATABASE_URL is not set: set the PostgreSQL address of the pages.")
    return url


@contextmanager
def opened_store() -> Iterator[Engine]:
    """The database, its tables updated. Raises BadInput where none is named or it cannot be reached."""
    from anaxis.store.database import connect, migrate

    engine = connect(database_url())
    try:
        migrate(engine)
        yield engine
    finally:
        engine.dispose()


def show_asked(session: Context, name: str | None) -> Show:
    """The show of that name, or the only one there is. Raises BadInput."""
    from sqlalchemy import select

    from anaxis.store.models import Show

    shows = list(session.execute(select(Show).where(Show.archived_at.is_(None)).order_by(Show.name)).scalars())
    found = [s for s in shows if name is None or s.name == name]
    if len(found) == 1:
        return found[0]
    listed = ", ".join(s.name for s in shows[:8]) or "none"
    raise BadInput(
        f"{'There is no show' if name else 'Name a show with --show: there is no one'} '{name or ''}': choose one of {listed}.".replace(
            " ''", ""
        )
    )
