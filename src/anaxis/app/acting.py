"""Who does a thing, whether they may, and what is left of it in the history."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

from sqlalchemy import inspect
from sqlalchemy.orm import Session

from anaxis.app.roles import LOCAL, Actor, Role
from anaxis.core.errors import BadInput
from anaxis.store.exchange import Clash, Link, Party, Recording, Shared
from anaxis.store.hooks import Webhook
from anaxis.store.media import MediaRootShow
from anaxis.store.models import (
    AllowedWarning,
    Base,
    Camera,
    Delivery,
    DeliveryFile,
    HistoryEntry,
    Job,
    Package,
    PlanTarget,
    Plate,
    Return,
    Run,
    Shot,
    Show,
    Still,
    Version,
)

P = ParamSpec("P")
R = TypeVar("R")


class NotAllowed(BadInput):
    """Somebody lacks the role for it; nothing was done."""

    code = "not_allowed"


def actor_of(session: Session) -> Actor:
    """Who acts in a session: whom it was opened for."""
    found: Actor = session.info.get("actor", LOCAL)
    return found


def require(session: Session, needs: Role, show: int | None, what: str) -> None:
    """Raise NotAllowed where the session's actor has not that role in a show (None: in any)."""
    actor = actor_of(session)
    has = actor.role(show)
    if has < needs:
        where = "here" if show is None else "in this show"
        by = (
            " with this token"
            if actor.most < needs <= max(actor.everywhere, actor.in_shows.get(show or 0, Role.NOBODY))
            else ""
        )
        raise NotAllowed(
            f"{actor.name} may not {what}{by}: it needs {needs.article} {where}, and {actor.name} is "
            f"{has.article if has else 'nobody'}. Ask an administrator for the role."
        )


def require_everywhere(session: Session, needs: Role, what: str) -> None:
    """Raise NotAllowed where the session's actor has not that role everywhere: what is of no show is the whole studio's."""
    actor = actor_of(session)
    if actor.of_studio < needs:
        raise NotAllowed(
            f"{actor.name} may not {what}: it is the whole studio's, and needs {needs.article} everywhere, not in one show. Ask an administrator."
        )


def use_case(
    action: str, needs: Role = Role.ARTIST, studio: bool = False
) -> Callable[[Callable[Concatenate[Session, P], R]], Callable[Concatenate[Session, P], R]]:
    """A use case: refused where the session's actor has not the role it needs, and told in the history with what came of it.

    The role is that in the shows of what it is given, and once more in those of what came of it: a shot that is moved needs
    it in both. ``studio``: it is needed everywhere. The entry is written in the session's own transaction: it stays or goes with what it is about.
    """

    def made(function: Callable[Concatenate[Session, P], R]) -> Callable[Concatenate[Session, P], R]:
        @wraps(function)
        def done(session: Session, *args: P.args, **kwargs: P.kwargs) -> R:
            actor = actor_of(session)
            if studio:
                require_everywhere(session, needs, action)
            for show in {show_of(row) for row in args if isinstance(row, Base)} or {None}:
                require(session, needs, show, action)
            result = function(session, *args, **kwargs)
            for row in result if isinstance(result, list) else [result]:
                require(session, needs, show_of(row), action)
                kind, number, said, detail = _entry_of(row)
                session.add(
                    HistoryEntry(actor=actor.name, action=action, kind=kind, about_id=number, said=said, detail=detail)
                )
            session.flush()
            return result

        return done

    return made


def show_of(row: Any) -> int | None:
    """The number of the show that a row is of; None for what is of none."""
    if isinstance(row, Show):
        return row.id
    if isinstance(row, Shot | Run | PlanTarget | Webhook | MediaRootShow | Party | Link | Clash | Recording):
        return row.show_id if row.show is None else row.show.id
    if isinstance(row, Camera | Plate):
        return show_of(row.shot)
    if isinstance(row, Version | AllowedWarning):
        return show_of(row.camera)
    if isinstance(row, Delivery | Return | Still | Job):
        return show_of(row.version)
    if isinstance(row, DeliveryFile):
        return show_of(row.delivery)
    if isinstance(row, Shared):
        return row.party.show_id
    return None


def _entry_of(row: Any) -> tuple[str, int, str, dict[str, Any]]:
    """What an entry is about: its table and number, in a few words, and what else is worth keeping."""
    detail: dict[str, Any] = {}
    if isinstance(row, Version):
        said, detail = row.change, {"camera": row.camera_id, "version": row.number, "of": row.called}
    elif isinstance(row, Delivery):
        said = f"{row.profile['key']}, {row.format}: {row.verdict}"
        detail = {"version": row.version_id, "max_px": row.max_px, "of": row.version.called}
    elif isinstance(row, Return):
        said, detail = f"{row.name}, {row.profile['key']}", {"version": row.version_id, "max_px": row.max_px}
    elif isinstance(row, Still):
        said, detail = f"{row.our_name}, {row.their_name}", {"version": row.version_id, "frame": row.frame}
    elif isinstance(row, Package):
        said, detail = f"{row.key} v{row.number}: {row.change}", {"key": row.key, "number": row.number}
    elif isinstance(row, AllowedWarning):
        return Camera.__tablename__, row.camera_id, f"{row.code}: {row.sentence}", {}
    elif isinstance(row, Clash):
        said = f"{row.name}: {row.chosen}"
    elif isinstance(row, Shot):
        said, was = row.name, _before(row)
        detail = (
            {"was": was} if was else {"first_frame": row.first_frame, "last_frame": row.last_frame, "rate": row.rate}
        )
    else:
        said, was = str(getattr(row, "name", "")), _before(row)
        detail = {"was": was} if was else {}
    return row.__tablename__, row.id, said, detail


def _before(row: Any) -> dict[str, str]:
    """The name, shot or show of a row as it was, where it has just been changed and is not written yet."""
    state, was = inspect(row).attrs, {}
    for what in ("name", "shot", "show"):
        gone = state[what].history.deleted if what in state else ()
        if gone:
            was[what] = str(getattr(gone[0], "name", gone[0]))
    return was
