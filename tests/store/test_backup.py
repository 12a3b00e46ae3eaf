"""A store dumped with pg_dump and restored elsewhere, as docs/shows.md says: everything is there, and goes on."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from sqlalchemy import Engine, create_engine, select, text
from sqlalchemy.exc import DBAPIError

from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.people.people import add_person, link_for
from anaxis.app.people.sign_in import accept, sign_in
from anaxis.app.roles import LOCAL, Role
from anaxis.core.recipe.model import Operation
from anaxis.packages import find_profile
from anaxis.queue.jobs import address_of, ask_for
from anaxis.store.base import Base
from anaxis.store.local_postgres import postgres_binary
from anaxis.store.models import Camera, Delivery
from test_store import keep

PASSWORD = "a wheel turned by the tide"


def test_a_dump_restored_elsewhere_is_the_same_store(
    engine: Engine, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        moved = edit_version(store, version, (Operation("shift", {"x_m": 1.0, "y_m": 0.0, "z_m": 0.0}),), "moved")
        deliver_version(store, moved, find_profile("zup-lh-cm"), "usd")
        ask_for(store, "keys", moved.id, {"versions": [moved.id]})
        accept(store, link_for(store, add_person(store, "keeper", Role.ADMINISTRATOR)), PASSWORD)
    before = _rows(engine)
    dump = tmp_path / "anaxis.dump"
    _run("pg_dump", "--format=custom", f"--file={dump}", address_of(engine))
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as line:
        line.execute(text("DROP DATABASE IF EXISTS restored"))
        line.execute(text("CREATE DATABASE restored"))
    there = create_engine(engine.url.set(database="restored"), hide_parameters=True)
    try:
        _run("pg_restore", "--no-owner", f"--dbname={address_of(there)}", str(dump))
        assert _rows(there) == before
        with Context(there, LOCAL) as store, store.begin():
            delivery = store.execute(select(Delivery)).scalar_one()
            assert delivery.matches and all(len(f.data) == f.size for f in delivery.files)
            head = store.execute(select(Camera)).scalar_one().head
            assert edit_version(store, head, (), "undone").number == head.number + 1, "numbers go on where they were"
            waits = store.execute(
                text("SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'anaxis.work'")
            ).scalar_one()
            assert waits == 1, "and what waited is still to be done"
        assert sign_in(there, "keeper", PASSWORD, "")
        with pytest.raises(DBAPIError, match="immutable once kept"), there.begin() as line:
            line.execute(text("DELETE FROM history"))
    finally:
        there.dispose()
        with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as line:
            line.execute(text("DROP DATABASE IF EXISTS restored WITH (FORCE)"))


def _run(name: str, *words: str) -> None:
    done = subprocess.run([postgres_binary(name), *words], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def _rows(engine: Engine) -> dict[str, list[str]]:
    """Every row of every table of ours, as text."""
    with engine.connect() as line:
        return {
            t.name: sorted(str(row) for row in line.execute(text(f'SELECT md5(t::text) FROM "{t.name}" t')).scalars())
            for t in Base.metadata.sorted_tables
        }
