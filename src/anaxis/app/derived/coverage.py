"""How much of a shot projection cameras cover: of kept cameras, worked out apart for pages."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.app.derived.derive import around_version, settings_of
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.derive.held import Hold
from anaxis.core.typing import Floats
from anaxis.diagnosis.covered import coverage, proposals
from anaxis.store.models import Camera, Version, VersionInput
from anaxis.store.queries import picture_of_version, track_of

Document = dict[str, Any]


def projections_of(context: Context, camera: Camera) -> list[Version]:
    """The projection cameras made from a camera, as they are worked on now, by the frame they are held at."""
    query = (
        select(Version)
        .join(Camera, Camera.head_id == Version.id)
        .join(VersionInput, VersionInput.version_id == Version.id)
        .join(used := select(Version.id, Version.camera_id).subquery(), used.c.id == VersionInput.input_id)
        .where(used.c.camera_id == camera.id, Camera.removed_at.is_(None))
    )
    found = [(s.at, v) for v in context.execute(query).scalars().unique() if isinstance(s := settings_of(v), Hold)]
    return [v for _, v in sorted(found, key=lambda f: (f[0], f[1].id))]


def coverage_of(context: Context, shot: Version, held: Sequence[Version]) -> tuple[Document, dict[str, Floats]]:
    """See :func:`anaxis.diagnosis.covered.coverage`."""
    cameras = []
    for version in held:
        picture = picture_of_version(version)
        cameras.append((track_of(version)[0].select_frames(np.array([0])), picture.image, picture.fit))
    return context.make(shot.camera.name, coverage, *_of(context, shot), cameras)


def best_frames(context: Context, shot: Version) -> list[Document]:
    """See :func:`anaxis.diagnosis.covered.proposals`."""
    return context.make(shot.camera.name, proposals, *_of(context, shot))


def _of(context: Context, shot: Version) -> tuple[Track, Image, str, Floats]:
    picture = picture_of_version(shot)
    return track_of(shot)[0], picture.image, picture.fit, around_version(context, shot).triangles_m
