"""Notices written, listed and marked as read."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import NamedTuple

from sqlalchemy import case, func, literal, select, update
from sqlalchemy.dialects.postgresql import insert

from anaxis.app.context import Context
from anaxis.app.notices.mail_server import has_mail_server
from anaxis.queue.jobs import mail_in_queue
from anaxis.store.models import HistoryEntry
from anaxis.store.notices import Notice
from anaxis.store.paging import Edge, RowsPage
from anaxis.store.people import Person
from anaxis.store.rows import NotFound

KINDS = {
    "run": "run ended",
    "failed": "work failed",
    "outdated": "delivery outdated",
    "returned": "returned camera differs",
    "conflict": "conflict",
    "finding": "finding",
}
PAGE = 100


class News(NamedTuple):
    """What happened in a show, for whom it may matter: a sentence, and the page that shows more.

    ``key`` names what it is about: the same person hears of one key once. ``repeats``: once more after it was read.
    """

    kind: str
    show_id: int
    sentence: str
    link: str
    key: str
    repeats: bool = False


def give_notice(context: Context, names: Iterable[str], news: News) -> None:
    """A notice for each person of these names who is not disabled; a name that is nobody's is passed over."""
    wanted = {name.lower() for name in names}
    if not wanted:
        return
    mail = case((Person.email.is_not(None) & Person.mails, "waiting"), else_="") if has_mail_server() else literal("")
    rows = select(
        Person.id, *(literal(v) for v in (news.show_id, news.kind, news.sentence, news.link, news.key)), mail
    ).where(func.lower(Person.name).in_(wanted), Person.disabled_at.is_(None))
    columns = ["person_id", "show_id", "kind", "sentence", "link", "key", "mail"]
    written = insert(Notice).from_select(columns, rows)
    if news.repeats:
        fresh = {
            "read_at": None,
            "created_at": func.now(),
            "sentence": written.excluded.sentence,
            "mail": written.excluded.mail,
        }
        written = written.on_conflict_do_update(
            index_elements=["person_id", "key"], set_=fresh, where=Notice.read_at.is_not(None)
        )
    else:
        written = written.on_conflict_do_nothing(index_elements=["person_id", "key"])
    for row in context.execute(written.returning(Notice.id, Notice.mail)).all():
        if row.mail == "waiting":
            mail_in_queue(context, row.id)


def actors_of(context: Context, table: str, numbers: Iterable[int]) -> set[str]:
    """Who made, or did something to, these rows of a table, by the history; not whoever acts now."""
    query = select(HistoryEntry.actor).where(HistoryEntry.kind == table, HistoryEntry.about_id.in_(list(numbers)))
    return set(context.execute(query.distinct()).scalars()) - {context.actor.name}


def notices_of(context: Context, before: int | None = None, after: int | None = None) -> RowsPage[Notice]:
    """A page of the notices of who works here: the newest, those older than the notice ``before``, or newer than ``after``."""
    edge = Edge(Notice.created_at, Notice.id, before, after)
    mine = edge.bounded(select(Notice).where(Notice.person_id == (context.actor.person or 0)))
    return edge.page(context.execute(mine.order_by(*edge.order).limit(PAGE + 1)).scalars(), PAGE)


def unread(context: Context) -> int:
    """How many notices of who works here are not read."""
    mine = (Notice.person_id == (context.actor.person or 0)) & Notice.read_at.is_(None)
    return context.execute(select(func.count()).select_from(Notice).where(mine)).scalar_one()


def open_notice(context: Context, number: int) -> Notice:
    """A notice of one's own, marked as read. Raises NotFound for another person's."""
    notice = _own(context, number)
    notice.read_at = notice.read_at or datetime.now(UTC)
    context.flush()
    return notice


def _own(context: Context, number: int) -> Notice:
    notice = context.get(Notice, number)
    if notice is None or notice.person_id != context.actor.person:
        raise NotFound(f"You have no notice {number}: choose one from your list.")
    return notice


def mark_all_read(context: Context) -> None:
    """All notices of who works here are read, those that came until now."""
    mine = (Notice.person_id == (context.actor.person or 0)) & Notice.read_at.is_(None)
    context.execute(update(Notice).where(mine).values(read_at=func.now()))
