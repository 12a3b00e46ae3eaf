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
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.store.content_places import ContentMissing, PlaceAway, chosen_url, place_at
from anaxis.store.models import Content, ContentPlace, RemovableContent
from anaxis.store.session import every_show

_log = logging.getLogger("anaxis.contents")
# Bytes outside the database stay for so long after the last row that named them: a backup must be done within this time.
STAY = timedelta(days=2)
_AT_ONCE = 1000
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
    values: dict[str, Any] = _written(session, there, digest, data) if there else {"in_database": data}
    held = insert(Content).values(sha256=digest, **values)
    held = held.on_conflict_do_update(index_elements=["sha256"], set_={"used_at": func.now()})
    if session.execute(held.returning(Content.key)).scalar_one() == values.get("key") and there:
        _named(session, there.id, values["key"])
    return digest


def _written(session: Session, there: Destination, digest: str, data: bytes) -> dict[str, Any]:
    """Write bytes under a key that nothing else has, known as removable until a row names them; the values of that row."""
    key = f"{digest[:2]}/{digest}-{secrets.token_hex(6)}"
    with every_show(_engine(session)) as apart, apart.begin():
        apart.add(RemovableContent(place_id=there.id, key=key))
    place_at(there.url).write(key, data)
    return {"place_id": there.id, "key": key, "size": len(data)}


def _named(session: Session, place_id: int, key: str) -> None:
    """A row names these bytes now."""
    named = (RemovableContent.place_id == place_id) & (RemovableContent.key == key)
    if not session.execute(delete(RemovableContent).where(named).returning(RemovableContent.key)).first():
        # They took so long to write that a worker has removed them.
        raise PlaceAway("Writing the bytes took longer than two days: repeat the operation.")


def move_one(engine: Engine, digest: str) -> int | None:
    """Move bytes to where new ones go, while others read and write; their size, or None where nothing had to be moved.

    Raises PlaceAway and ContentMissing; the bytes then stay where they were.
    """
    with every_show(engine) as session:
        there = destination(session)
        row = session.get(Content, digest)
        if row is None or row.place_id == (there.id if there else None):
            return None
        was, data = (row.place_id, row.key), row.data
        session.commit()  # no transaction is open while bytes are written
        values: dict[str, Any] = {"place_id": None, "key": None, "size": None, "in_database": data}
        if there:
            values = _written(session, there, digest, data) | {"in_database": None}
        here = [Content.place_id.is_not_distinct_from(was[0]), Content.key.is_not_distinct_from(was[1])]
        moved = update(Content).where(Content.sha256 == digest, *here).values(**values).returning(Content.sha256)
        if session.execute(moved).first() is None:
            return None  # somebody else has moved or removed it meanwhile
        if there:
            _named(session, there.id, values["key"])
        if was[0] is not None:
            session.add(RemovableContent(place_id=was[0], key=was[1]))
        session.commit()
        return len(data)


def elsewhere(engine: Engine, after: str, most: int = _AT_ONCE) -> list[str]:
    """Checksums, in their order, of bytes that are not where new ones go."""
    with every_show(engine) as session:
        there = destination(session)
        not_there = Content.place_id.is_distinct_from(there.id if there else None)
        query = select(Content.sha256).where(Content.sha256 > after, not_there).order_by(Content.sha256).limit(most)
        return list(session.execute(query).scalars())


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
        try:
            if row is not None and hashlib.sha256(row.data).hexdigest() != digest:
                return f"The bytes '{digest}' in the database are damaged."
        except ContentMissing as missing:
            return missing.sentence
        return None


def put_back(engine: Engine, digest: str, data: bytes) -> None:
    """Replace bytes outside the database that are missing or damaged by the same bytes from a backup. Raises BadInput."""
    if hashlib.sha256(data).hexdigest() != digest:
        raise BadInput(f"The bytes of '{digest}' in the backup are damaged.")
    with every_show(engine) as session:
        row = session.get_one(Content, digest)
        if row.place is not None and row.key is not None:
            place_at(row.place.url).write(row.key, data)


def _engine(session: Session) -> Engine:
    bind = session.get_bind()
    return bind.engine if isinstance(bind, Connection) else bind
