"""Who does a thing, whether they may, and what is left of it in the history."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import wraps
from typing import Any, Concatenate, NamedTuple, ParamSpec, TypeVar

from sqlalchemy import inspect

from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.store.base import Base
from anaxis.store.exchange import Clash
from anaxis.store.models import (
    AllowedWarning,
    Camera,
    Delivery,
    HistoryEntry,
    Package,
    Return,
    Shot,
    Show,
    Still,
    Version,
)
from anaxis.store.people import Person

P = ParamSpec("P")
R = TypeVar("R")


class NotAllowed(BadInput):
    """Somebody lacks the role for it; nothing was done."""

    code = "not_allowed"


def require(context: Context, needs: Role, show: int | None, what: str) -> None:
    """Raise NotAllowed where the actor has not that role in a show (None: in any)."""
    actor = context.actor
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


def require_everywhere(context: Context, needs: Role, what: str) -> None:
    """Raise NotAllowed where the actor has not that role everywhere: what is of no show is the whole studio's."""
    actor = context.actor
    if actor.of_studio < needs:
        raise NotAllowed(
            f"{actor.name} may not {what}: it affects the whole studio and needs {needs.article} site-wide, not in one show. Ask an administrator."
        )


class UseCase(NamedTuple):
    """What a use case is called in the history, and the role that it needs; ``studio``: everywhere; ``own``: for one's own alone."""

    action: str
    needs: Role
    studio: bool
    own: bool


# Every use case that is loaded, by module and name: docs/roles.md is written from it.
USE_CASES: dict[str, UseCase] = {}


def require_own(context: Context, person_id: int | None, what: str) -> None:
    """Raise NotAllowed where something is another person's, and the actor is not an administrator."""
    actor = context.actor
    if actor.person != person_id and actor.of_studio < Role.ADMINISTRATOR:
        raise NotAllowed(f"{actor.name} may not {what} for another person: ask an administrator.")


def use_case(
    action: str, needs: Role = Role.ARTIST, studio: bool = False, own: bool = False
) -> Callable[[Callable[Concatenate[Context, P], R]], Callable[Concatenate[Context, P], R]]:
    """A use case: refused where the actor has not the role it needs, and told in the history with what came of it.

    The role is that in the shows of what it is given, and once more in those of what came of it: a shot that is moved needs
    it in both. ``studio``: it is needed everywhere. ``own``: what it is given is the actor's own
    (a person, or a person's). The entry is written in the same transaction: it stays or goes with what it is about.
    """

    def made(function: Callable[Concatenate[Context, P], R]) -> Callable[Concatenate[Context, P], R]:
        @wraps(function)
        def done(context: Context, *args: P.args, **kwargs: P.kwargs) -> R:
            actor = context.actor
            if studio:
                require_everywhere(context, needs, action)
            for person in {_person_of(row) for row in _rows_of(args, kwargs)} - {None} if own else ():
                require_own(context, person, action)
            for show in {show_of(row) for row in _rows_of(args, kwargs)} or {None}:
                require(context, needs, show, action)
            result = function(context, *args, **kwargs)
            for row in result if isinstance(result, list) else [result]:
                show_id = show_of(row)
                require(context, needs, show_id, action)
                kind, number, said, detail = _entry_of(row)
                context.add(
                    HistoryEntry(
                        actor=actor.name, action=action, kind=kind, about_id=number, said=said, detail=detail,
                        show_id=show_id or None,
                    )
                )  # fmt: skip
            context.flush()
            return result

        USE_CASES[f"{function.__module__}.{function.__name__}"] = UseCase(action, needs, studio, own)
        return done

    return made


def _rows_of(args: Sequence[Any], kwargs: Mapping[str, Any]) -> Iterator[Base]:
    """The rows that a use case is given, those in lists too."""
    for given in (*args, *kwargs.values()):
        yield from (row for row in (given if isinstance(given, list | tuple) else [given]) if isinstance(row, Base))


def _person_of(row: Base) -> int | None:
    """The number of the person whose a row is; None for what is nobody's."""
    return row.id if isinstance(row, Person) else getattr(row, "person_id", None)


def show_of(row: Any) -> int | None:
    """The number of the show that a row belongs to; None for what is of no show, 0 where the owner is not seen here."""
    while isinstance(row, Base) and row.belongs_to:
        owner = getattr(row, row.belongs_to)
        if owner is None:  # hidden from this actor, or not read yet
            return getattr(row, "show_id", None) or 0
        row = owner
    return row.id if isinstance(row, Show) else None


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
