"""A fresh database for every test: copied from one that was migrated once."""

from __future__ import annotations

import itertools
import shutil
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import psycopg
import pytest
from sqlalchemy import Engine, make_url

from anaxis.app.context import Context
from anaxis.app.people.sign_in import server_key
from anaxis.app.roles import LOCAL
from anaxis.store import database
from anaxis.store.database import connect, migrate

_TEMPLATE = "migrated"
# A database is some 400 files. A disk takes up to half a second to copy them, memory a twentieth.
_MEMORY, _ROOM_BYTES = Path("/dev/shm"), 2 << 30


@contextmanager
def folder_of_cluster(usual: Path) -> Iterator[Path]:
    """A folder in memory for a cluster, if there is room for it; else ``usual``."""
    try:
        roomy = shutil.disk_usage(_MEMORY).free > _ROOM_BYTES
    except OSError:
        roomy = False
    if not roomy:
        yield usual
        return
    with TemporaryDirectory(prefix="anaxis-tests-", dir=_MEMORY, ignore_cleanup_errors=True) as name:
        yield Path(name)


def compile_once(patch: pytest.MonkeyPatch) -> None:
    """From now on all engines share one dialect and what was compiled for it: else each test compiles every query anew."""
    usual = database.create_engine
    first: list[Engine] = []

    def create_engine(*args: Any, **more: Any) -> Engine:
        engine = usual(*args, **more, query_cache_size=4000)
        if first:
            engine.dialect = engine.pool._dialect = first[0].dialect
            engine._compiled_cache = first[0]._compiled_cache
        else:
            with engine.connect():  # it learns which server it speaks to
                first.append(engine)
        return engine

    patch.setattr(database, "create_engine", create_engine)


class Databases:
    """Databases of the server at ``url``, which nobody else uses."""

    def __init__(self, url: str) -> None:
        self._url, self._numbers = url, itertools.count()
        self._run(f"CREATE DATABASE {_TEMPLATE}")
        engine = connect(self._address(_TEMPLATE))
        migrate(engine)
        with Context(engine, LOCAL) as store, store.begin():
            server_key(store)  # the same for all of them: made by every server else
        engine.dispose()

    def _address(self, name: str) -> str:
        return make_url(self._url).set(database=name).render_as_string(hide_password=False)

    def _run(self, statement: str) -> None:
        with psycopg.connect(self._url, autocommit=True) as line:
            line.execute(statement)

    def fresh(self) -> AbstractContextManager[str]:
        """The address of an empty database with all tables; whoever still uses it at the end is cut off."""
        return self.copied(_TEMPLATE)

    def empty(self) -> AbstractContextManager[str]:
        """The address of a database without tables."""
        return self.copied("template0")

    @contextmanager
    def copied(self, of: str) -> Iterator[str]:
        """The address of a copy of a database that nobody uses now."""
        name = f"test_{next(self._numbers)}"
        self._run(f"CREATE DATABASE {name} TEMPLATE {of}")
        try:
            yield self._address(name)
        finally:
            self._run(f"DROP DATABASE {name} WITH (FORCE)")
