"""What came over the exchange, kept: a file of our own as the next take of a known camera, or as a new one."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from sqlalchemy import select

from anaxis.app.cameras.edit import keep_camera, keep_retake, planned_retake
from anaxis.app.cameras.names import shot_for
from anaxis.app.cameras.scene_report import looked_at
from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.picture import picture_of
from anaxis.formats.track_json.document import scene_of_track, track_bytes
from anaxis.library.archive import scene_to_bytes
from anaxis.store.keep import stage_file
from anaxis.store.models import Camera, Shot, Version
from anaxis.store.noticed import expected_of


class As(NamedTuple):
    """As what it is kept: the camera of a number, else a new one of that name in a shot of a show."""

    camera: int | None
    show: str
    shot: str
    name: str


def keep_as(
    context: Context, outgoing: Outgoing, stem: str, to: As, change: str, findings: Callable[[str], list[Finding]] = lambda path: []
) -> Version:  # fmt: skip
    """Keep a camera as a version; ``findings`` gives what is to be said of it beside the usual, by its path. Raises BadInput."""
    file = f"{legal_name(stem, set())}.track.json"
    data = track_bytes(outgoing)
    scene = scene_of_track(data, file)
    source = stage_file(context, file, data, scene_to_bytes(scene))
    picture, path = picture_of(scene, None, None), scene.cameras[0].path
    if to.camera is not None:
        camera = context.get_one(Camera, to.camera)
        planned = planned_retake(context, camera, source, scene, path, "recipe", picture)
        planned.report.findings.extend(findings(path))
        return keep_retake(context, source, planned, change=change)
    require_shot(to.shot)
    shot = shot_for(context, to.show, to.shot.strip())
    context.execute(select(Shot.id).where(Shot.id == shot.id).with_for_update())
    report = looked_at(context, source.name, source.scene, {}, expected_of(shot))[0]
    report.findings.extend(findings(path))
    taken = set(context.execute(select(Camera.name).where(Camera.shot_id == shot.id)).scalars())
    return keep_camera(context, shot, source, report, legal_name(to.name, taken), picture, change)


def require_shot(name: str) -> None:
    """Raise BadInput for a name that no shot has."""
    if not 1 <= len(name.strip()) <= 120:
        raise BadInput("The shot needs a name of 1 to 120 characters: the camera is saved in this shot.")
