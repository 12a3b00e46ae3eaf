"""Who did what, when, to what: the history read, filtered and written out. Nothing of it is ever changed."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, func, or_, select, true

from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.core.number_text import px_text
from anaxis.formats.text_cells import text_cell
from anaxis.store.exchange import Clash, Client, Link, Recording, RemoteCamera
from anaxis.store.hooks import Webhook
from anaxis.store.media import MediaRootShow
from anaxis.store.models import Base, Camera, Delivery, HistoryEntry, Package, Plate, Shot, Show, Version
from anaxis.store.people import Person, Token

PAGE = 100
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


def entries(context: Context, of: Of, at: int = 0) -> list[HistoryEntry]:
    """A page of entries, the newest first."""
    query = _of(context, of).order_by(HistoryEntry.id.desc()).limit(PAGE).offset(max(0, at))
    return list(context.execute(query).scalars())


def count(context: Context, of: Of) -> int:
    return context.execute(select(func.count()).select_from(_of(context, of).subquery())).scalar_one()


def actions_and_actors(context: Context) -> tuple[list[str], list[str]]:
    """What entries may be filtered by."""
    seen = _seen(context)
    actions = context.execute(
        select(HistoryEntry.action).where(seen).distinct().order_by(HistoryEntry.action)
    ).scalars()
    actors = context.execute(select(HistoryEntry.actor).where(seen).distinct().order_by(HistoryEntry.actor)).scalars()
    return list(actions), list(actors)


def as_csv(context: Context, of: Of) -> Iterator[str]:
    """All entries, the newest first, a line each, as RFC 4180 has it; times in UTC as ISO 8601."""
    yield _line("at", "who", "did", "kind", "number", "of", "detail")
    for e in context.execute(_of(context, of).order_by(HistoryEntry.id.desc())).scalars().yield_per(1000):
        at = e.at.astimezone(UTC).isoformat(timespec="seconds")
        yield _line(at, e.actor, e.action, e.kind, str(e.about_id), e.said, detail_words(e))


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
        about = and_(HistoryEntry.kind == Package.__tablename__, HistoryEntry.detail["key"].as_string() == of.package)
        went = and_(HistoryEntry.kind == Delivery.__tablename__, HistoryEntry.said.startswith(f"{of.package},"))
        query = query.where(or_(about, went))
    if of.camera is not None or of.shot is not None or of.show is not None:
        query = query.where(_below(of))
    return query


def _below(of: Of) -> ColumnElement[bool]:
    """Entries about a show, shot or camera, and all that hangs on it."""
    cameras = select(Camera.id)
    shots = select(Shot.id)
    if of.camera is not None:
        cameras, shots = cameras.where(Camera.id == of.camera), shots.where(Shot.id == -1)
    elif of.shot is not None:
        cameras, shots = cameras.where(Camera.shot_id == of.shot), shots.where(Shot.id == of.shot)
    else:
        shots = shots.where(Shot.show_id == of.show)
        cameras = cameras.where(Camera.shot_id.in_(shots))
    versions = select(Version.id).where(Version.camera_id.in_(cameras))
    deliveries = select(Delivery.id).where(Delivery.version_id.in_(versions))
    plates = select(Plate.id).where(Plate.shot_id.in_(shots))
    tables = {Camera: cameras, Shot: shots, Version: versions, Delivery: deliveries, Plate: plates}
    asked = [and_(HistoryEntry.kind == t.__tablename__, HistoryEntry.about_id.in_(ids)) for t, ids in tables.items()]
    if of.show is not None and of.shot is None and of.camera is None:
        clients = select(Client.id).where(Client.show_id == of.show)
        live: dict[type[Base], Any] = {
            t: select(t.id).where(t.show_id == of.show) for t in (Client, Link, Clash, Recording)
        }
        live[RemoteCamera] = select(RemoteCamera.id).where(RemoteCamera.client_id.in_(clients))
        live[Show] = [of.show]
        asked += [and_(HistoryEntry.kind == t.__tablename__, HistoryEntry.about_id.in_(ids)) for t, ids in live.items()]
    return or_(*asked)
