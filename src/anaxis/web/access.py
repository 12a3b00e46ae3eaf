"""What a route needs: a role, in the show of what its address names."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

from fastapi import Depends, Request
from sqlalchemy import select

from anaxis.app.acting import require, show_of
from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.store.exchange import Clash, Client, Link, Recording, RemoteCamera
from anaxis.store.hooks import Webhook
from anaxis.store.models import (
    Camera,
    Delivery,
    Job,
    PlanTarget,
    Plate,
    Return,
    Run,
    Shot,
    Show,
    SourceFile,
    Still,
    Version,
    VersionInput,
)
from anaxis.store.rows import NotFound, found
from anaxis.store.screenshots import Screenshot
from anaxis.web.pages import Store, row_number

_SAFE = ("GET", "HEAD", "OPTIONS")
# What the number behind a word of an address is of.
_OF = {
    "cameras": (Camera, "camera"), "again": (Camera, "camera"), "shots": (Shot, "shot"), "shows": (Show, "show"),
    "deliveries": (Delivery, "delivery"), "jobs": (Job, "work"), "returns": (Return, "return"), "runs": (Run, "run"),
    "plan-targets": (PlanTarget, "target"), "plates": (Plate, "plate"), "stills": (Still, "still"), "screenshots": (Screenshot, "screenshot"), "webhooks": (Webhook, "webhook"),
    "clients": (Client, "package"), "remote": (RemoteCamera, "camera of a package"), "links": (Link, "link"), "clashes": (Clash, "clash"),
    "recordings": (Recording, "recording"),
}  # fmt: skip


class Needs:
    """A dependency that refuses whoever has not the role: ``read`` to look, ``change`` to do."""

    def __init__(self, read: Role, change: Role) -> None:
        self.read, self.change = read, change

    def role(self, method: str) -> Role:
        return self.read if method in _SAFE else self.change

    def __call__(self, request: Request, store: Store) -> None:
        role = self.role(request.method)
        what = "see this" if request.method in _SAFE else "do this"
        require(store, role, _show_of_address(request, store), what)


class Open:
    """A route for whoever comes: signing in, and what says that the server lives."""

    def __call__(self) -> None:
        return None


def needs(read: Role = Role.VIEWER, change: Role = Role.ARTIST) -> Any:
    """What a router or a route needs; where both say it, both are needed."""
    return Depends(Needs(read, change))


OPEN = Depends(Open())


def _show_of_address(request: Request, session: Context) -> int | None:
    """The show of what the address names; None where it names nothing of one show. Raises NotFound, also for what is not to
    be seen."""
    steps = request.url.path.strip("/").split("/")
    for word, number in pairwise(steps):
        row = row_number(number)
        if row is not None and word in _OF:
            model, what = _OF[word]
            return show_of(found(session, model, row, what))
        if row is not None and word in ("take-in", "many", "files"):
            _require_own(session, row)
    return None


def _require_own(session: Context, source_id: int) -> None:
    """A file that was put aside is its own person's and an administrator's; one that is kept also theirs who see a camera of it."""
    row, actor = found(session, SourceFile, source_id, "file"), session.actor
    if row.actor == actor.name or actor.everywhere >= Role.ADMINISTRATOR:
        return
    seen = select(Version.id).join(VersionInput, VersionInput.version_id == Version.id)
    if not row.kept or session.execute(seen.where(VersionInput.source_file_id == row.id).limit(1)).first() is None:
        raise NotFound(f"There is no file {source_id}: take it in again.")
