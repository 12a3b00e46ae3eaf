"""Which media roots a show's people may look into: those that a setting or an administrator opened to the show.

ANAXIS_MEDIA_SHOWS says it for a whole installation: names of roots, each with its shows (``plates=Show A,Show B;scans=*``; ``*`` is
every show). What is handed in belongs to its show and is looked into by nobody.
"""

from __future__ import annotations

import os

from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.store.media import MediaRootShow
from anaxis.store.media_folders import HANDED_IN, media_roots, root_of
from anaxis.store.models import Plate, Show

EVERY_SHOW = "*"


class NotOpen(BadInput):
    """A media root is not open to a show."""

    code = "not_allowed"


def roots_for(context: Context, show: Show) -> list[str]:
    """The media roots that are open to a show."""
    return _open_to(context, [show], False)


def roots_of_actor(context: Context) -> list[str]:
    """The media roots that camera files may be taken in from by whoever acts: those of the shows that they work in."""
    actor = context.actor
    shows = context.execute(select(Show).where(Show.archived_at.is_(None))).scalars()
    theirs = [s for s in shows if actor.role(s.id) >= Role.ARTIST]
    return _open_to(context, theirs, actor.of_studio >= Role.ARTIST)


def _open_to(context: Context, shows: list[Show], also_coming: bool) -> list[str]:
    """The roots that are open to one of the shows; ``also_coming``: or to every show, though there be none yet."""
    opened = set(
        context.execute(select(MediaRootShow.root).where(MediaRootShow.show_id.in_([s.id for s in shows]))).scalars()
    )
    for root, names in _by_setting().items():
        if names & {s.name for s in shows} or (EVERY_SHOW in names and (shows or also_coming)):
            opened.add(root)
    return [root for root in media_roots() if root in opened and root != HANDED_IN]


def require_root_for(context: Context, root: str, show: Show) -> None:
    """Raises NotOpen; BadInput where there is no such root."""
    root_of(root)
    if root not in roots_for(context, show):
        raise NotOpen(
            f"The media root '{root[:60]}' is not open to {show.name}: ask an administrator to open it (People, Media roots)."
        )


def require_root_of_actor(context: Context, root: str) -> None:
    """Raises NotOpen; BadInput where there is no such root."""
    root_of(root)
    if root not in roots_of_actor(context):
        raise NotOpen(f"The media root '{root[:60]}' is not open to your shows: ask an administrator to open it.")


def require_pictures(context: Context, plate: Plate) -> None:
    """Raises NotOpen where a plate lies below a root that is not open to its show any more. What was handed in always is."""
    if plate.root != HANDED_IN:
        require_root_for(context, plate.root, plate.shot.show)


@use_case("open a media root", Role.ADMINISTRATOR)
def open_root(context: Context, root: str, show: Show) -> MediaRootShow:
    """Raises BadInput where there is no such root, or it is what plates are handed in to."""
    root_of(root)
    if root == HANDED_IN:
        raise BadInput("Uploaded files belong to their own show and cannot be opened to another.")
    held = _row(context, root, show)
    if held is None:
        held = MediaRootShow(root=root, show=show)
        context.add(held)
        context.flush()
    return held


@use_case("close a media root", Role.ADMINISTRATOR)
def close_root(context: Context, root: str, show: Show) -> MediaRootShow:
    """Raises BadInput where it was not open."""
    held = _row(context, root, show)
    if held is None:
        raise BadInput(
            f"The media root '{root[:60]}' is not open to {show.name}, or only by the setting ANAXIS_MEDIA_SHOWS. Nothing was changed."
        )
    context.delete(held)
    return held


def opened_roots(context: Context) -> list[tuple[str, list[str], list[Show]]]:
    """Each media root, the shows that the setting opens it to, and those that an administrator did."""
    rows = list(context.execute(select(MediaRootShow).order_by(MediaRootShow.id)).scalars())
    return [
        (root, sorted(_by_setting().get(root, ())), [r.show for r in rows if r.root == root])
        for root in media_roots()
        if root != HANDED_IN
    ]


def _row(context: Context, root: str, show: Show) -> MediaRootShow | None:
    query = select(MediaRootShow).where(MediaRootShow.root == root, MediaRootShow.show_id == show.id)
    return context.execute(query).scalar_one_or_none()


def _by_setting() -> dict[str, set[str]]:
    out: dict[str, set[str]] = {}
    for entry in filter(None, os.environ.get("ANAXIS_MEDIA_SHOWS", "").split(";")):
        root, _, shows = entry.partition("=")
        out.setdefault(root.strip(), set()).update(filter(None, (s.strip() for s in shows.split(","))))
    return out
