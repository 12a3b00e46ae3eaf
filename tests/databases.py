"""A fresh database for every test: copied from one that was migrated once."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
from sqlalchemy import make_url
from sqlalchemy.orm import Session

from anaxis.app.sign_in import server_key
from anaxis.store.database import connect, migrate

_TEMPLATE = "migrated"


class Databases:
    """Databases of the server at ``url``, which nobody else uses."""

    def __init__(self, url: str) -> None:
        self._url, self._numbers = url, itertools.count()
        self._run(f"CREATE DATABASE {_TEMPLATE}")
        engine = connect(self._address(_TEMPLATE))
        migrate(engine)
        with Session(engine) as store, store.begin():
            server_key(store)  # the same for all of them: made by every server else
        engine.dispose()

    def _address(self, name: str) -> str:
        return make_url(self._url).set(database=name).render_as_string(hide_password=False)

    def _run(self, statement: str) -> None:
        with psycopg.connect(self._url, autocommit=True) as line:
            line.execute(statement)

    @contextmanager
    def fresh(self) -> Iterator[str]:
        """The address of an empty database with all tables; whoever still uses it at the end is cut off."""
        name = f"test_{next(self._numbers)}"
        self._run(f"CREATE DATABASE {name} TEMPLATE {_TEMPLATE}")
        try:
            yield self._address(name)
        finally:
            self._run(f"DROP DATABASE {name} WITH (FORCE)")
