"""Who did what, when, to what: the history read, filtered and written out. Nothing of it is ever changed."""

from __future__ import annotations

import csv
import io
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import (
    ColumnElement,
    CompoundSelect,
    Engine,
    Select,
    false,
    func,
    literal_column,
    select,
    true,
    tuple_,
    union_all,
)

from anaxis.app.context import Context
from anaxis.app.roles import Actor, Role
from anaxis.core.number_text import px_text
from anaxis.formats.text_cells import text_cell
from anaxis.store.base import Base
from anaxis.store.hooks import Webhook
from anaxis.store.media import MediaRootShow
from anaxis.store.models import Camera, Delivery, HistoryEntry, HistoryWord, Package, Plate, Shot, Show, Version
from anaxis.store.paging import Edge, RowsPage
from anaxis.store.people import Person, Token

PAGE = 100
# Entries are counted up to this number: counting millions takes longer than reading a page.
MOST_COUNTED = 10_000
_CSV_AT_ONCE = 5_000
# What is told of these is for administrators: who may do what, by which token, and whom the show tells.
_ADMINISTRATORS = tuple(t.__tablename__ for t in (Person, Token, Webhook, MediaRootShow))


@dataclass(frozen=True)
class Of:
    """Which entries: of a show, shot, camera (by number) or package (by key), by whom, what, of the last ``days``."""

    show: int | None = None
    shot: int | None = None
    camera: int | None = None
    package: str = ""
    who: str = ""
    action: str = ""
    days: int | None = None


def entries(
    context: Context, of: Of, before: int | None = None, after: int | None = None, most: int = PAGE
) -> RowsPage[HistoryEntry]:
    """A page of entries: the newest, those older than the entry ``before``, or those newer than the entry ``after``."""
    edge = Edge(HistoryEntry.at, HistoryEntry.id, before, after)
    query = edge.bounded(_of(context, of))
    if context.shows is not None and of.show is None and of.shot is None and of.camera is None:
        query = _newest_of_each(query, context.shows, edge.order, most + 1)
    return edge.page(context.execute(query.order_by(*edge.order).limit(most + 1)).scalars(), most)


def _newest_of_each(
    query: Select[HistoryEntry], shows: Collection[int], order: Sequence[Any], most: int
) -> Select[HistoryEntry]:
    """The first entries of a query in each show, and the first of those that belong to no show. Asked for these shows at once, PostgreSQL
    would go through the entries of all other shows too."""
    show = select(Show.id).where(Show.id.in_(sorted(shows))).subquery()
    firsts = query.with_only_columns(HistoryEntry.id, HistoryEntry.at).order_by(*order).limit(most)
    of_show = firsts.where(HistoryEntry.show_id == show.c.id).correlate(show).lateral()
    of_none = firsts.where(HistoryEntry.show_id.is_(None)).subquery()
    chosen = union_all(select(of_show).select_from(show.join(of_show, true())), select(of_none))
    entry = tuple_(HistoryEntry.id, HistoryEntry.at)
    return select(HistoryEntry).where(entry.in_(chosen))


def count(context: Context, of: Of) -> int:
    """How many entries there are; ``MOST_COUNTED`` + 1 where there are more."""
    some = _of(context, of).with_only_columns(HistoryEntry.id).limit(MOST_COUNTED + 1)
    return context.execute(select(func.count()).select_from(some.subquery())).scalar_one()


def count_words(number: int) -> str:
    """A count as pages write it."""
    if number > MOST_COUNTED:
        return f"more than {MOST_COUNTED:,} entries"
    return f"{number:,} entr{'y' if number == 1 else 'ies'}"


def actions_and_actors(context: Context, show: int | None = None) -> tuple[list[str], list[str]]:
    """What entries (of a show, or all) may be filtered by."""
    query = select(HistoryWord.what, HistoryWord.word).distinct().order_by(HistoryWord.word)
    if show is not None:
        query = query.where(HistoryWord.show_id.in_([show, HistoryWord.RESERVED]))
    if context.actor.of_studio < Role.ADMINISTRATOR:
        query = query.where(HistoryWord.show_id != HistoryWord.RESERVED)
    words = context.execute(query).all()
    return [w.word for w in words if w.what == "action"], [w.word for w in words if w.what == "actor"]


def as_csv(engine: Engine, actor: Actor, of: Of) -> Iterator[str]:
    """All entries, the newest first, a line each, as RFC 4180 has it; times in UTC as ISO 8601. Some thousand are read at once."""
    yield _line("at", "who", "did", "kind", "number", "of", "detail")
    before: int | None = None
    while True:
        with Context(engine, actor) as context:
            page = entries(context, of, before, most=_CSV_AT_ONCE)
            yield "".join(
                _line(
                    e.at.astimezone(UTC).isoformat(timespec="seconds"), e.actor, e.action, e.kind, str(e.about_id), e.said, detail_words(e)
                )
                for e in page.rows
            )  # fmt: skip
        before = page.before
        if before is None:
            return


def detail_words(entry: HistoryEntry) -> str:
    """What else an entry holds, in a few words."""
    detail = entry.detail
    words = [f"{what} was {name}" for what, name in detail.get("was", {}).items()]
    if "of" in detail:
        words.append(str(detail["of"]))
    if detail.get("max_px") is not None:
        words.append(f"worst {px_text(detail['max_px'])}")
    if detail.get("first_frame") is not None and detail.get("last_frame") is not None:
        words.append(f"frames {detail['first_frame']:g} to {detail['last_frame']:g}")
    if detail.get("rate"):
        words.append(f"{detail['rate']}/s")
    return ", ".join(words)


def _line(*cells: str) -> str:
    out = io.StringIO()
    csv.writer(out).writerow(map(text_cell, cells))
    return out.getvalue()


def _seen(context: Context) -> ColumnElement[bool]:
    actor = context.actor
    if actor.of_studio >= Role.ADMINISTRATOR:
        return true()
    return HistoryEntry.kind.not_in(_ADMINISTRATORS)


def _of(context: Context, of: Of) -> Select[HistoryEntry]:
    query = select(HistoryEntry).where(_seen(context))
    if of.who:
        query = query.where(HistoryEntry.actor == of.who)
    if of.action:
        query = query.where(HistoryEntry.action == of.action)
    if of.days is not None:
        query = query.where(HistoryEntry.at >= datetime.now(UTC) - timedelta(days=of.days))
    if of.package:
        package = func.package_of_entry(HistoryEntry.kind, HistoryEntry.said, HistoryEntry.detail)
        query = query.where(HistoryEntry.kind.in_([_kind(Delivery), _kind(Package)]), package == of.package)
    if of.camera is not None or of.shot is not None:
        query = query.where(tuple_(HistoryEntry.kind, HistoryEntry.about_id).in_(_below(of)))
    if of.show is not None:
        query = query.where(HistoryEntry.show_id == of.show)
    return query


def _below(of: Of) -> CompoundSelect[Any]:
    """The table and number of a shot or camera, and of all that hangs on it."""
    if of.camera is not None:
        cameras, shots = select(Camera.id).where(Camera.id == of.camera), select(Shot.id).where(false())
    else:
        cameras, shots = select(Camera.id).where(Camera.shot_id == of.shot), select(Shot.id).where(Shot.id == of.shot)
    versions = select(Version.id).where(Version.camera_id.in_(cameras))
    deliveries = select(Delivery.id).where(Delivery.version_id.in_(versions))
    plates = select(Plate.id).where(Plate.shot_id.in_(shots))
    of_table: dict[Any, Any] = {Camera: cameras, Shot: shots, Version: versions, Delivery: deliveries, Plate: plates}
    return union_all(*(ids.with_only_columns(_kind(model), model.id) for model, ids in of_table.items()))


def _kind(model: type[Base]) -> ColumnElement[str]:
    """What entries call a table, as a constant of the query: PostgreSQL compares it with the condition of an index."""
    return literal_column(f"'{model.__tablename__}'")
