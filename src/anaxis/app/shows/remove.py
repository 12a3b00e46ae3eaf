"""Cameras taken off the lists, and brought back: nothing of them is lost."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.derived.derive import hanging_on, settings_of
from anaxis.app.plates.plates import remove_plate
from anaxis.core.derive.framed import Frame
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.store.models import Camera, Plate, Shot, Version


@use_case("remove")
def remove_camera(context: Context, camera: Camera, even_so: bool = False) -> Camera:
    """Take a camera off the lists. Raises BadInput where others are made from it, which says which, unless ``even_so``."""
    hanging = hanging_on(context, camera)
    if hanging and not even_so:
        names = listed([f"{c.shot.name} {c.name}" for c in hanging])
        raise BadInput(
            f"{names} {'is' if len(hanging) == 1 else 'are'} derived from {camera.name}. They stay unchanged, but "
            "Anaxis can no longer update them from it. Archive them first, or confirm.",
            "hangs_on",
        )
    camera.removed_at = datetime.now(UTC)
    context.flush()
    return camera


@use_case("remove a plate")
def remove_plate_of_shot(context: Context, plate: Plate, even_so: bool = False) -> Plate:
    """Take a plate away from its shot. Raises BadInput where a camera is framed in it, which says which, unless ``even_so``."""
    framed = [
        v.camera
        for v in _heads(context, plate.shot)
        if isinstance(s := settings_of(v), Frame) and s.plate_id == plate.id
    ]
    if framed and not even_so:
        names = ", ".join(c.name for c in framed[:6])
        raise BadInput(
            f"{names} {'is' if len(framed) == 1 else 'are'} framed in '{plate.name}': the maps stay right, but the picture behind the outline is lost. Tick the box to remove the plate."
            "",
            "hangs_on",
        )
    return remove_plate(context, plate)


def _heads(context: Context, shot: Shot) -> list[Version]:
    query = (
        select(Version)
        .join(Camera, Camera.head_id == Version.id)
        .where(Camera.shot_id == shot.id, Camera.removed_at.is_(None))
    )
    return list(context.execute(query).scalars())


@use_case("restore")
def bring_back_camera(context: Context, camera: Camera) -> Camera:
    """Put a removed camera on the lists again."""
    camera.removed_at = None
    context.flush()
    return camera
