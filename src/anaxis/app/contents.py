"""Where bytes live: moving them between PostgreSQL and a folder or an object store, checking them, backup and restore."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Collection, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import Connection, Engine, delete, func, inspect, make_url, select, text, update

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.store.content_places import ContentMissing, Place, key_of, place_at
from anaxis.store.content_rows import Content, ContentPlace, RemovableContent
from anaxis.store.contents import OWNERS, SIZE, check_one, elsewhere, make_content, move_some, put_back
from anaxis.store.database import connect
from anaxis.store.local_postgres import postgres_binary

# An object store answers one request in some tens of milliseconds, and many at once.
_AT_ONCE = 8
_ROWS_AT_ONCE = 1000
_BATCH, _BATCH_BYTES = 32, 32_000_000
_DUMPS = "anaxis-*.dump"
# What is done while a snapshot is held may take hours.
_PATIENCE = text("SET statement_timeout = 0; SET idle_in_transaction_session_timeout = 0")
Progress = Callable[[int], None]


@dataclass(frozen=True)
class KeptAt:
    """How many pieces of content one place holds, and how many bytes these come to; ``url`` is "" for PostgreSQL."""

    url: str
    number: int
    size: int


@dataclass
class Done:
    """How many pieces of content were moved, copied or checked, their size, and a sentence for each that is missing or damaged:
    ``mended`` where a backup replaced it."""

    number: int = 0
    size: int = 0
    wrong: list[str] = field(default_factory=list)
    mended: list[str] = field(default_factory=list)

    def add(self, sizes: Collection[int]) -> None:
        self.number, self.size = self.number + len(sizes), self.size + sum(sizes)


def places(context: Context) -> list[KeptAt]:
    """Every place that holds content. Reads a row of each piece of content: some seconds for a million."""
    url = func.coalesce(ContentPlace.url, "")
    query = select(url, func.count(), func.sum(SIZE)).select_from(Content).outerjoin(Content.place).group_by(url)
    return [KeptAt(at, number, int(size)) for at, number, size in context.execute(query.order_by(url))]


def move_contents(engine: Engine, progress: Progress | None = None) -> Done:
    """Move all content to where new content goes, while people work. A move that was interrupted continues when it is begun again.

    Raises PlaceAway where the place cannot be reached.
    """
    done, after = Done(), ""
    for model in OWNERS:
        while sizes := make_content(engine, model):
            done.add(sizes)
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        while found := elsewhere(engine, after):
            after = found[-1][0]
            for sizes, wrong in pool.map(lambda some: move_some(engine, some), _batches(found)):
                done.add(sizes)
                done.wrong += wrong
                if progress is not None:
                    progress(done.number)
    return done


def _batches(found: list[tuple[str, int]]) -> list[list[str]]:
    """Checksums that are moved together: few, and small enough for memory."""
    out: list[list[str]] = [[]]
    size = 0
    for digest, one in found:
        if out[-1] and (len(out[-1]) == _BATCH or size + one > _BATCH_BYTES):
            out.append([])
            size = 0
        out[-1].append(digest)
        size += one
    return out


def check_contents(engine: Engine, backup: Path | None = None, progress: Progress | None = None) -> Done:
    """Read all content and compare it with its checksum; what is missing or damaged is replaced from a backup where one is named.

    Raises PlaceAway where a place cannot be reached.
    """
    kept = None if backup is None else _contents_of(backup)
    done, after = Done(), ""
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        while digests := _every(engine, after):
            after = digests[-1]
            for digest, wrong in zip(digests, pool.map(lambda d: check_one(engine, d), digests), strict=True):
                if wrong is not None:
                    refused = None if kept is None else _put_back(engine, kept, digest)
                    (done.mended if kept is not None and refused is None else done.wrong).append(refused or wrong)
            done.number += len(digests)
            if progress is not None:
                progress(done.number)
    return done


def back_up(engine: Engine, folder: Path, progress: Progress | None = None) -> Done:
    """Write a dump of the database and, beside it, the content that is outside the database, as of one moment, while people work.

    Content that an earlier backup in this folder has is not copied again; the backup does not contain what is missing or damaged.
    Raises BadInput, also PlaceAway.
    """
    folder.mkdir(parents=True, exist_ok=True)
    there = place_at((folder.absolute() / "contents").as_uri())
    there.set_up()
    for left in folder.glob("anaxis-*.part"):  # by a backup that was killed
        left.unlink()
    dump = folder / f"anaxis-{datetime.now(UTC):%Y%m%dT%H%M%SZ}.dump"
    partial = dump.with_suffix(".part")
    done = Done()
    with engine.connect().execution_options(isolation_level="REPEATABLE READ") as held, held.begin():
        held.execute(_PATIENCE)
        snapshot = held.execute(text("SELECT pg_export_snapshot()")).scalar_one()
        dumping = _postgres(engine, "pg_dump", "--format=custom", f"--file={partial}", f"--snapshot={snapshot}")
        try:
            for copied in _copied(held, there):
                if isinstance(copied, str):
                    done.wrong.append(copied)
                else:
                    done.add([copied])
                if progress is not None:
                    progress(done.number)
            _, said = dumping.communicate()
        finally:
            dumping.kill()
            dumping.wait()
    if dumping.returncode:
        partial.unlink(missing_ok=True)
        raise BadInput(
            f"The database could not be dumped ({_last(said)}): check DATABASE_URL, and the free space in {folder}."
        )
    partial.replace(dump)
    return done


def restore(url: str, folder: Path) -> Path:
    """Restore the newest backup of a folder into an empty database; content is read from the backup until it is moved. Raises BadInput."""
    dumps = sorted(folder.glob(_DUMPS))
    if not dumps:
        raise BadInput(
            f"{folder} contains no backup, a file named {_DUMPS}: choose the folder that 'anaxis backup' wrote."
        )
    there = _contents_of(folder)
    engine = connect(url)
    try:
        if inspect(engine).get_table_names():
            raise BadInput(
                "The database of DATABASE_URL is not empty: create an empty database, and set DATABASE_URL to it."
            )
        restoring = _postgres(
            engine, "pg_restore", "--no-owner", "--exit-on-error", "--single-transaction", str(dumps[-1])
        )
        _, said = restoring.communicate()
        if restoring.returncode:
            raise BadInput(f"{dumps[-1]} could not be restored ({_last(said)}): choose an undamaged backup.")
        with Context(engine, LOCAL) as context, context.begin():
            context.execute(_PATIENCE)
            # No owner: this database never removes or writes anything in the backup.
            backup = ContentPlace(url=there.url, owner="")
            context.add(backup)
            context.flush()
            in_backup = func.left(Content.sha256, 2) + "/" + Content.sha256  # as key_of has it
            outside = update(Content).where(Content.place_id.is_not(None))
            context.execute(outside.values(place_id=backup.id, key=in_backup))
            context.execute(delete(RemovableContent))
        return dumps[-1]
    finally:
        engine.dispose()


def _copied(held: Connection, there: Place) -> Iterator[int | str]:
    """Copy the content outside the database that a snapshot names and the backup lacks; the size of each piece, or a sentence for one
    that is missing or damaged."""
    query = select(Content.sha256, Content.key, ContentPlace.url).join(
        ContentPlace, Content.place_id == ContentPlace.id
    )

    def copy(row: tuple[str, str, str]) -> int | str | None:
        digest, key, url = row
        if there.has(key_of(digest)):
            return None
        try:
            data = place_at(url).read(key, digest)
        except ContentMissing as missing:
            return missing.sentence
        there.write(key_of(digest), data)
        return len(data)

    rows = held.execution_options(yield_per=_ROWS_AT_ONCE).execute(query)
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for some in rows.partitions():
            for copied in pool.map(copy, [(r[0], r[1], r[2]) for r in some]):
                if copied is not None:
                    yield copied


def _every(engine: Engine, after: str) -> list[str]:
    with Context(engine, LOCAL) as context:
        query = select(Content.sha256).where(Content.sha256 > after).order_by(Content.sha256).limit(_ROWS_AT_ONCE)
        return list(context.execute(query).scalars())


def _put_back(engine: Engine, backup: Place, digest: str) -> str | None:
    """Replace content from a backup; why this was not possible, in a sentence, or None."""
    try:
        put_back(engine, digest, backup.read(key_of(digest), digest))
    except ContentMissing as missing:
        return missing.sentence
    return None


def _contents_of(backup: Path) -> Place:
    there = place_at((backup.absolute() / "contents").as_uri())
    there.require()
    return there


def _postgres(engine: Engine, name: str, *args: str) -> subprocess.Popen[str]:
    """A program of PostgreSQL's on this database. Its password is not among the arguments, which everybody on this machine can read."""
    url = make_url(engine.url).set(drivername="postgresql")
    unsaid = url._replace(password=None).render_as_string(hide_password=False)
    environment = os.environ | ({"PGPASSWORD": str(url.password)} if url.password else {})
    words = [postgres_binary(name), *args, f"--dbname={unsaid}"]
    return subprocess.Popen(words, env=environment, stderr=subprocess.PIPE, text=True)


def _last(said: str) -> str:
    lines = said.strip().splitlines()
    return lines[-1] if lines else "no message"
