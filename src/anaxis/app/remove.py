"""Cameras taken off the lists, and brought back: nothing of them is lost."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy.orm import Session

from anaxis.app.acting import use_case
from anaxis.app.derive import hanging_on
from anaxis.core.errors import BadInput
from anaxis.store.models import Camera


@use_case("remove")
def remove_camera(session: Session, camera: Camera, even_so: bool = False) -> Camera:
    """Take a camera off the lists. Raises BadInput where others are made from it, which says which, unless ``even_so``."""
    hanging = hanging_on(session, camera)
    if hanging and not even_so:
        names = ", ".join(f"{c.shot.name} {c.name}" for c in hanging[:6])
        more = f" and {len(hanging) - 6} more" if len(hanging) > 6 else ""
        raise BadInput(
            f"{names}{more} {'is' if len(hanging) == 1 else 'are'} made from {camera.name}: they stay as they are without it, and can no longer be "
            "brought up to date from it. Remove them first, or remove it even so.",
            "hangs_on",
        )
    camera.removed_at = datetime.now(UTC)
    session.flush()
    return camera


@use_case("bring back")
def bring_back_camera(session: Session, camera: Camera) -> Camera:
    """Put a removed camera on the lists again."""
    camera.removed_at = None
    session.flush()
    return camera
