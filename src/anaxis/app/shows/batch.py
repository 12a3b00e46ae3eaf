"""Several cameras of a show at once: a saved recipe applied, shots moved, cameras archived. Delivery and film have orders of
their own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, TypeVar

from sqlalchemy import select
from sqlalchemy.orm import joinedload

from anaxis.app.cameras.names import move_shot
from anaxis.app.context import Context
from anaxis.app.shows.remove import remove_camera
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.queue.jobs import ask_for
from anaxis.store.models import Camera, Job, Shot, Show
from anaxis.store.queries import newest_recipe

MOST = 500
Row = TypeVar("Row", Shot, Camera)


class Done(NamedTuple):
    """What was done of a batch: a sentence about each part that was refused."""

    changed: int
    refused: list[str]


def cameras_ticked(context: Context, show: Show, numbers: Sequence[int]) -> list[Camera]:
    """The cameras of a show by number, by shot and name. Raises BadInput where none is named, too many are, or one is of another show."""
    wanted = set(numbers)
    if not wanted:
        raise BadInput("No camera is ticked: tick the cameras first.")
    if len(wanted) > MOST:
        raise BadInput(f"{len(wanted)} cameras are ticked: at most {MOST} go at once.")
    query = (
        select(Camera)
        .join(Shot)
        .where(Camera.id.in_(wanted), Shot.show_id == show.id, Camera.head_id.is_not(None))
        .order_by(Shot.name, Camera.name)
        .options(joinedload(Camera.shot), joinedload(Camera.head_version))
    )
    found = list(context.execute(query).scalars())
    if len(found) < len(wanted):
        raise BadInput("A ticked camera is not in this show any more: reload the page.")
    return found


def ask_for_recipe(context: Context, cameras: Sequence[Camera], name: str) -> Job:
    """Put a saved recipe down to be applied to cameras, each as a new version. Raises NotFound for an unknown recipe."""
    newest_recipe(context, name)
    versions = [c.head.id for c in cameras]
    return ask_for(context, "recipe", versions[0], {"versions": versions, "recipe": name})


def move_shots_of(context: Context, cameras: Sequence[Camera], to: Show) -> Done:
    """The shots of these cameras, each whole, into another show."""
    shots = {c.shot_id: c.shot for c in cameras}
    return _each(context, list(shots.values()), lambda shot: move_shot(context, shot, to))


def archive_cameras(context: Context, cameras: Sequence[Camera]) -> Done:
    """Cameras off the lists; one that others are made from stays, and a sentence says so."""
    return _each(context, cameras, lambda camera: remove_camera(context, camera))


def said_of(done: Done, what: str, where: str) -> str:
    """A sentence about a batch: how many, and what was refused."""
    plural = "" if done.changed == 1 else "s"
    refused = f" Not {where}: {listed(done.refused, 3, ' ')}" if done.refused else ""
    return f"{done.changed} {what}{plural} {where}.{refused}"


def _each(context: Context, rows: Sequence[Row], do: Callable[[Row], object]) -> Done:
    """Each by itself: one that is refused stops no other, for it is refused before anything of it is changed."""
    refused = []
    for row in rows:
        try:
            do(row)
        except BadInput as error:
            refused.append(error.sentence)
    return Done(len(rows) - len(refused), refused)
