"""What others did to a camera meanwhile, and who else has it open."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert

from anaxis.app.context import Context
from anaxis.store.models import Camera, Version
from anaxis.store.people import Presence
from anaxis.store.queries import recipe_of

# Who was heard of within this time is there; a page tells every 15 s.
_THERE_FOR = timedelta(seconds=40)


class Step(NamedTuple):
    """A version that was made meanwhile, by whom, and whether it is the one worked on now."""

    version: Version
    who: str
    head: bool


def steps_since(context: Context, camera: Camera, seen: int) -> list[Step]:
    """The versions of a camera after the one of that number, in order; where none is newer, the one worked on now."""
    later = [v for v in camera.versions if v.number > seen] or [camera.head]
    return [Step(v, v.actor, v.id == camera.head.id) for v in later]


def may_go_on_top(before: Version, now: Version, index: str | None) -> bool:
    """Whether a step made from one version means the same on another: one that names an operation by its place does where
    that place holds the same operation in both."""
    if index is None:
        return True
    mine, theirs = recipe_of(before), recipe_of(now)
    return (
        index.isascii()
        and index.isdecimal()
        and int(index) < min(len(mine), len(theirs))
        and mine[: int(index) + 1] == theirs[: int(index) + 1]
    )


def others_at(context: Context, camera: Camera) -> list[str]:
    """That the actor has a camera open, and who else has."""
    who = context.actor.name
    seen = insert(Presence).values(camera_id=camera.id, who=who)
    context.execute(seen.on_conflict_do_update(index_elements=["camera_id", "who"], set_={"seen_at": func.now()}))
    context.execute(delete(Presence).where(Presence.seen_at < datetime.now(UTC) - _THERE_FOR))
    others = select(Presence.who).where(Presence.camera_id == camera.id, Presence.who != who).order_by(Presence.who)
    return list(context.execute(others).scalars())
