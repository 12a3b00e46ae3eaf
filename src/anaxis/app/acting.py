"""Who does a thing, whether they may, and what is left of it in the history."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

from sqlalchemy import inspect
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.store.models import Delivery, HistoryEntry, Package, Return, Shot, Still, Version

P = ParamSpec("P")
R = TypeVar("R")


@dataclass(frozen=True)
class Actor:
    """Somebody who does things here; on a machine of one's own everybody is "local"."""

    name: str


LOCAL = Actor("local")


def actor_of(session: Session) -> Actor:
    """Who acts in a session: whom it was opened for."""
    found: Actor = session.info.get("actor", LOCAL)
    return found


def anybody(actor: Actor) -> bool:
    return True


def use_case(
    action: str, may: Callable[[Actor], bool] = anybody
) -> Callable[[Callable[Concatenate[Session, P], R]], Callable[Concatenate[Session, P], R]]:
    """A use case: refused where the session's actor may not do it, and told in the history with what came of it.

    The entry is written in the session's own transaction: it stays or goes with what it is about.
    """

    def made(function: Callable[Concatenate[Session, P], R]) -> Callable[Concatenate[Session, P], R]:
        @wraps(function)
        def done(session: Session, *args: P.args, **kwargs: P.kwargs) -> R:
            actor = actor_of(session)
            if not may(actor):
                raise BadInput(f"{actor.name} may not {action}: ask somebody who may.", "not_allowed")
            result = function(session, *args, **kwargs)
            for row in result if isinstance(result, list) else [result]:
                kind, number, said, detail = _entry_of(row)
                session.add(
                    HistoryEntry(actor=actor.name, action=action, kind=kind, about_id=number, said=said, detail=detail)
                )
            session.flush()
            return result

        return done

    return made


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
