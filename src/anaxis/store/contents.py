"""Bytes by their checksum: kept once, in PostgreSQL or in the place that ANAXIS_CONTENTS names, and moved between these.

Bytes outside the database are written before a row names them, and are removed after no row does. A row of
``removable_contents`` names them meanwhile: no crash leaves bytes that nobody knows of, and none takes bytes that a row names.
"""

from __future__ import annotations

import hashlib
import logging
import secrets
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import Connection, Engine, delete, func, select, text, tuple_, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, undefer

from anaxis.core.errors import BadInput
from anaxis.store.content_places import ContentMissing, PlaceAway, chosen_url, key_of, place_at
from anaxis.store.content_rows import Content, ContentPlace, OwnBytes, RemovableContent
from anaxis.store.models import MadeFile, PlateProxy
from anaxis.store.screenshots import Screenshot
from anaxis.store.session import every_show

_log = logging.getLogger("anaxis.contents")
# Bytes outside the database stay for so long after the last row that named them: a backup must be done within this time.
STAY = timedelta(days=2)
_AT_ONCE = 1000
_ROWS_TOGETHER = 8
# Tables whose rows have bytes of their own.
OWNERS = (MadeFile, PlateProxy, Screenshot)
# How large bytes are, wherever they are.
SIZE = func.coalesce(Content.size, func.octet_length(Content.in_database))


@dataclass(frozen=True)
class Destination:
    """A place that bytes are written to, by its row."""

    id: int
    url: str


def owner_of(session: Session) -> str:
    """The name of this database: a copy of it, made by a dump, has another one."""
    query = "SELECT system_identifier || '/' || (SELECT oid FROM pg_database WHERE datname = current_database()) FROM pg_control_system()"
    return str(session.execute(text(query)).scalar_one())


def destination(session: Session) -> Destination | None:
    """Where new bytes go; None for the database. A place that is named for the first time is set up. Raises BadInput."""
    url = chosen_url()
    if url is None:
        return None
    owner = owner_of(session)
    mine = select(ContentPlace.id).where(ContentPlace.url == url, ContentPlace.owner == owner)
    found = session.execute(mine).scalar()
    if found is None:
        place_at(url).set_up()
        with every_show(_engine(session)) as apart, apart.begin():
            apart.execute(insert(ContentPlace).values(url=url, owner=owner).on_conflict_do_nothing())
        found = session.execute(mine).scalar_one()
    return Destination(found, url)


def require_destination(engine: Engine) -> None:
    """Raises BadInput where ANAXIS_CONTENTS names no place, and PlaceAway where its place cannot be reached."""
    with every_show(engine) as session:
        there = destination(session)
    if there is not None:
        place_at(there.url).require()


def check_setting(engine: Engine) -> None:
    """Raises BadInput where ANAXIS_CONTENTS names no place. A place that is away now is written in the log, and may come back."""
    try:
        require_destination(engine)
    except PlaceAway as away:
        _log.warning("stored bytes cannot be reached now: %s", away.sentence)


def keep_bytes(session: Session, data: bytes) -> str:
    """Keep bytes, once; returns the checksum that they are known by from then on. Raises PlaceAway."""
    digest = hashlib.sha256(data).hexdigest()
    # Known ones are held until the transaction ends: whoever takes away what no file is of waits for it.
    known = update(Content).where(Content.sha256 == digest).values(used_at=func.now()).returning(Content.sha256)
    if session.execute(known).first() is not None:
        return digest
    there = destination(session)
    values: dict[str, Any] = _written(session, there, {digest: data})[digest] if there else {"in_database": data}
    held = insert(Content).values(sha256=digest, **values)
    held = held.on_conflict_do_update(index_elements=["sha256"], set_={"used_at": func.now()})
    if session.execute(held.returning(Content.key)).scalar_one() == values.get("key") and there:
        _named(session, there.id, {values["key"]})
    return digest


def values_of(session: Session, data: bytes) -> dict[str, Any]:
    """The values of a row of :class:`OwnBytes` with these bytes: kept as content where new bytes go outside the database."""
    return {"in_row": data} if chosen_url() is None else {"sha256": keep_bytes(session, data)}


def size_of_row(model: type[OwnBytes]) -> Any:
    """How large the bytes of such a row are."""
    content = select(SIZE).where(Content.sha256 == model.sha256).scalar_subquery()
    return func.coalesce(func.octet_length(model.in_row), content, 0)


def make_content(engine: Engine, model: Any) -> list[int]:
    """Keep the bytes of some rows as content, where new bytes go outside the database; their sizes, none where nothing is left to do."""
    if chosen_url() is None:
        return []
    key = tuple(model.__mapper__.primary_key)
    with every_show(engine) as session, session.begin():
        query = select(model).where(model.in_row.is_not(None)).options(undefer(model.in_row)).order_by(*key)
        rows = session.execute(query.limit(_ROWS_TOGETHER).with_for_update(of=model)).scalars().all()
        sizes = [len(row.in_row) for row in rows]
        for row in rows:
            row.sha256, row.in_row = keep_bytes(session, row.in_row), None
        return sizes


def _written(session: Session, there: Destination, pieces: dict[str, bytes]) -> dict[str, dict[str, Any]]:
    """Write bytes under keys that nothing else has, known as removable until a row names them; the values of these rows, by checksum."""
    # Large bytes take a slow store minutes, and the transaction waits for it.
    session.execute(text("SET LOCAL idle_in_transaction_session_timeout = '15min'"))
    keys = {digest: f"{key_of(digest)}-{secrets.token_hex(6)}" for digest in pieces}
    with every_show(_engine(session)) as apart, apart.begin():
        apart.execute(insert(RemovableContent), [{"place_id": there.id, "key": key} for key in keys.values()])
    place = place_at(there.url)
    for digest, data in pieces.items():
        place.write(keys[digest], data)
    return {d: {"place_id": there.id, "key": keys[d], "size": len(data)} for d, data in pieces.items()}


def _named(session: Session, place_id: int, keys: set[str]) -> None:
    """Rows name these bytes now. Raises PlaceAway where a worker has removed them, because writing them took days."""
    these = (RemovableContent.place_id == place_id) & RemovableContent.key.in_(keys)
    named = set(session.execute(delete(RemovableContent).where(these).returning(RemovableContent.key)).scalars())
    if named != keys:
        raise PlaceAway("Writing the bytes took longer than two days: repeat the operation.")


def move_some(engine: Engine, digests: list[str]) -> tuple[list[int], list[str]]:
    """Move bytes to where new ones go, while others read and write: the size of each piece that was moved, and a sentence for each
    that is missing or damaged. Raises PlaceAway; the bytes then stay where they were."""
    wrong: list[str] = []
    pieces: dict[str, bytes] = {}
    with every_show(engine) as session:
        there = destination(session)
        not_there = Content.place_id.is_distinct_from(there.id if there else None)
        rows = session.execute(select(Content).where(Content.sha256.in_(digests), not_there)).scalars().all()
        was = {row.sha256: (row.place_id, row.key) for row in rows}
        for row in rows:
            try:
                pieces[row.sha256] = row.data
            except ContentMissing as missing:
                wrong.append(missing.sentence)
        if not pieces:
            return [], wrong
        session.commit()  # no transaction is open while bytes are written
        written = _written(session, there, pieces) if there else {}
        moved = []
        for digest, data in sorted(pieces.items()):  # two moves at once lock rows in one order
            place_id, key = was[digest]
            here = Content.place_id.is_not_distinct_from(place_id) & Content.key.is_not_distinct_from(key)
            inside: dict[str, Any] = {"place_id": None, "key": None, "size": None, "in_database": data}
            values = written[digest] | {"in_database": None} if there else inside
            change = update(Content).where(Content.sha256 == digest, here).values(**values).returning(Content.sha256)
            if session.execute(change).first():  # else somebody has moved or removed it meanwhile
                moved.append(digest)
        if there:
            _named(session, there.id, {written[d]["key"] for d in moved})
        left = [{"place_id": was[d][0], "key": was[d][1]} for d in moved if was[d][0] is not None]
        if left:
            session.execute(insert(RemovableContent), left)
        session.commit()
        return [len(pieces[d]) for d in moved], wrong


def elsewhere(engine: Engine, after: str, most: int = _AT_ONCE) -> list[tuple[str, int]]:
    """Checksum and size, in the order of the checksums, of bytes that are not where new ones go."""
    with every_show(engine) as session:
        there = destination(session)
        not_there = Content.place_id.is_distinct_from(there.id if there else None)
        query = select(Content.sha256, SIZE).where(Content.sha256 > after, not_there)
        return [(digest, size) for digest, size in session.execute(query.order_by(Content.sha256).limit(most))]


def remove_contents(session: Session, digests: list[str], *only: Any) -> int:
    """Remove rows of these checksums for which ``only`` holds; how many went. Bytes outside the database stay for some days."""
    gone = session.execute(
        delete(Content).where(Content.sha256.in_(digests), *only).returning(Content.place_id, Content.key)
    ).all()
    outside = [{"place_id": place, "key": key} for place, key in gone if place is not None]
    if outside:
        session.execute(insert(RemovableContent), outside)
    return len(gone)


def clear_removable(engine: Engine) -> int:
    """Remove bytes outside the database that no row has named for some days; how many. Places of another database are left alone."""
    gone = 0
    with every_show(engine) as session:
        places = session.execute(select(ContentPlace.id, ContentPlace.url, ContentPlace.owner)).all()
        mine = owner_of(session) if places else ""
    for number, url, owner in places:
        old = (RemovableContent.place_id == number) & (RemovableContent.since < func.now() - STAY)
        while True:
            with every_show(engine) as session, session.begin():
                some = select(RemovableContent.key).where(old).order_by(RemovableContent.key).limit(_AT_ONCE)
                keys = list(session.execute(some.with_for_update(skip_locked=True)).scalars())
                if not keys:
                    break
                try:
                    if owner == mine:
                        place_at(url).remove(keys)
                except BadInput as away:
                    _log.warning("nothing is removed from %s now: %s", url, away.sentence)
                    break
                session.execute(
                    delete(RemovableContent).where(
                        tuple_(RemovableContent.place_id, RemovableContent.key).in_([(number, k) for k in keys])
                    )
                )
                gone += len(keys)
    return gone


def check_one(engine: Engine, digest: str) -> str | None:
    """What is wrong with bytes that are kept, in a sentence; None where they are whole. Raises PlaceAway."""
    with every_show(engine) as session:
        row = session.get(Content, digest)
        if row is None:
            return None
        try:
            data = row.data  # a place compares what it reads
        except ContentMissing as missing:
            return missing.sentence
        if row.place_id is None and hashlib.sha256(data).hexdigest() != digest:
            return f"The bytes '{digest}' in the database are damaged."
        return None


def put_back(engine: Engine, digest: str, data: bytes) -> None:
    """Replace bytes outside the database that are missing or damaged by the same bytes from a backup. Raises PlaceAway."""
    with every_show(engine) as session:
        row = session.get_one(Content, digest)
        if row.place is not None and row.key is not None:
            place_at(row.place.url).write(row.key, data)


def _engine(session: Session) -> Engine:
    bind = session.get_bind()
    return bind.engine if isinstance(bind, Connection) else bind
