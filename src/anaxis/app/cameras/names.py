"""Shows, shots and cameras renamed, moved, archived and brought back: nothing is destroyed, what was delivered stays."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from difflib import SequenceMatcher
from typing import Any

from sqlalchemy import select, text

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.core.names import looks_like
from anaxis.store.keep import find_or_make_shot, find_or_make_show
from anaxis.store.models import Camera, Shot, Show

_MAX_NAME = 120
# Names of which so much is the same, in order, are asked about.
_NEAR = 0.85


def shot_for(context: Context, show: str, shot: str, new_show: bool = False) -> Shot:
    """The shot of these names, made where there is none yet.

    Raises BadInput where it, or its show, is archived; and where there is no such show but one of nearly that name, unless
    ``new_show`` says that another one is meant.
    """
    made = find_or_make_shot(context, show_for(context, show, new_show), shot)
    _require_in_use("shot", made)
    return made


def show_for(context: Context, show: str, new_show: bool = False) -> Show:
    """The show of this name, under the conditions of :func:`shot_for`."""
    if not 1 <= len(show) <= _MAX_NAME:
        raise BadInput(f"The show needs a name of 1 to {_MAX_NAME} characters.")
    if not new_show:
        _require_no_typo(context, show)
    held = find_or_make_show(context, show)
    _require_in_use("show", held)
    return held


def _require_in_use(what: str, row: Show | Shot) -> None:
    if row.archived_at is not None:
        raise BadInput(
            f"The {what} '{row.name}' is archived: restore it on Shots, or choose another name.", "archived"
        )  # fmt: skip


def _require_no_typo(context: Context, name: str) -> None:
    names = context.execute(select(Show.name)).scalars().all()
    if name not in names:
        # Two that make a new show at once take turns: the second one sees the show of the first.
        context.execute(text("SELECT pg_advisory_xact_lock(hashtext('new show'))"))
        names = context.execute(select(Show.name)).scalars().all()
    if name in names:
        return
    near = next((n for n in names if _nearly_the_same(n, name)), None)
    if near is not None:
        raise BadInput(
            f"There is no show '{name}'. There is '{near}'. Correct the name, or confirm that '{name}' is a new show.", "near_show"
        )  # fmt: skip


def _nearly_the_same(one: str, other: str) -> bool:
    """Whether one name may be the other with a slip of the keys. Names that differ by their numbers alone are two names."""
    a, b = (re.sub(r"[\W_]+", "", looks_like(n)) for n in (one, other))
    numbers = [re.findall(r"\d+", n) for n in (one, other)]
    if numbers[0] != numbers[1] and re.sub(r"\d+", "", one) == re.sub(r"\d+", "", other):
        return False
    return a == b or SequenceMatcher(None, a, b).ratio() >= _NEAR


@use_case("rename", Role.LEAD)
def rename(context: Context, row: Show | Shot | Camera, name: str) -> Show | Shot | Camera:
    """Another name for a show, shot or camera; what was delivered keeps the name it went out by.

    Raises BadInput for a name that is empty, too long or taken beside it.
    """
    wanted = name.strip()
    if not 1 <= len(wanted) <= _MAX_NAME:
        raise BadInput(f"A name has 1 to {_MAX_NAME} characters: type one.")
    _require_free(context, row, wanted, _beside(row))
    row.name = wanted
    return row


@use_case("move", Role.LEAD)
def move_camera(context: Context, camera: Camera, to: Shot) -> Camera:
    """A camera into another shot. Raises BadInput where one of its name is there."""
    _require_free(context, camera, camera.name, (Camera.shot_id == to.id,))
    camera.shot = to
    return camera


@use_case("move", Role.LEAD)
def move_shot(context: Context, shot: Shot, to: Show) -> Shot:
    """A shot into another show. Raises BadInput where one of its name is there."""
    _require_free(context, shot, shot.name, (Shot.show_id == to.id,))
    shot.show = to
    return shot


@use_case("archive", Role.LEAD)
def archive(context: Context, row: Show | Shot) -> Show | Shot:
    """Off the lists, and owed nothing any more; nothing of it is lost."""
    row.archived_at = datetime.now(UTC)
    context.flush()
    return row


@use_case("restore", Role.LEAD)
def bring_back(context: Context, row: Show | Shot) -> Show | Shot:
    row.archived_at = None
    context.flush()
    return row


def _beside(row: Show | Shot | Camera) -> tuple[Any, ...]:
    if isinstance(row, Camera):
        return (Camera.shot_id == row.shot_id,)
    return (Shot.show_id == row.show_id,) if isinstance(row, Shot) else ()


def _require_free(context: Context, row: Show | Shot | Camera, name: str, beside: tuple[Any, ...]) -> None:
    """Two people who take one name wait for each other."""
    context.execute(text("SELECT pg_advisory_xact_lock(hashtext(:key))"), {"key": f"name {name}"})
    model = type(row)
    taken = context.execute(select(model).where(model.name == name, model.id != row.id, *beside)).scalar_one_or_none()
    if taken is not None:
        off = getattr(taken, "archived_at", None) or getattr(taken, "removed_at", None)
        raise BadInput(
            f"There is a {model.__name__.lower()} '{name[:80]}' already{', off the list' if off else ''}: choose another name.", "taken"
        )  # fmt: skip
