"""Two versions of a camera: what changed, from which frame, by how many pixels."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import Response

from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.proof.compare import Comparison, arrived_at, compare
from anaxis.store.models import Version
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.camera import proof_drawing
from anaxis.web.pages import Store, drawing_answer, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/compare")
def comparison(request: Request, store: Store, camera_id: int, a: int | None = None, b: int | None = None) -> Any:
    newer = get_version(store, camera_id, b)
    if a is None:
        a = _before(newer)
    older = get_version(store, camera_id, a)
    found = _compared(older, newer)
    same_picture = _images(older, newer)[0] == _images(older, newer)[1] and older.source_fit == newer.source_fit
    return page(
        request, "compare/index.html", older=older, newer=newer, camera=newer.camera, shot=newer.camera.shot,
        found=found, pictures=(picture_of_version(older), picture_of_version(newer)), same_picture=same_picture,
        mark_changes=_mark_changes(older, newer),
    )  # fmt: skip


@router.get("/{camera_id}/compare/drawing")
def drawing(store: Store, camera_id: int, a: int, b: int) -> Response:
    older, newer = get_version(store, camera_id, a), get_version(store, camera_id, b)
    found = _compared(older, newer)
    if found.proof is None:
        raise BadInput("These versions have no frame in common: there is nothing to draw.")
    track, marks, lines = track_of(older)
    picture = picture_of_version(older)
    arrived = arrived_at(found, track_of(newer)[0], _images(older, newer), newer.source_fit)
    data = proof_drawing(
        track.take(found.in_a), marks.at_frames(found.in_a), lines, picture, found.proof.deviation_px, arrived
    )
    return drawing_answer(data)


def _before(version: Version) -> int:
    """The version to compare with: the one an edit was made from, else the take before."""
    versions = version.camera.versions
    parent = next((v for v in versions if v.id == version.parent_id), None)
    followed = version.facts.get("follows")
    if parent is None and followed is not None:
        return int(followed)
    earlier = [v for v in versions if v.take < version.take]
    return (parent or (earlier[-1] if earlier else version)).number


def _images(older: Version, newer: Version) -> tuple[Image, Image]:
    return picture_of_version(older).image, picture_of_version(newer).image


def _compared(older: Version, newer: Version) -> Comparison:
    track, marks, _ = track_of(older)
    return compare(track, track_of(newer)[0], _images(older, newer), (older.source_fit, newer.source_fit), marks)


def _mark_changes(older: Version, newer: Version) -> list[str]:
    """What became of the landmarks, one sentence each."""
    a, b = track_of(older)[1].shown(), track_of(newer)[1].shown()
    said = [f"{n} is gone" for n in a.names if n not in b.names] + [f"{n} is new" for n in b.names if n not in a.names]
    for name in a.names:
        if name in b.names:
            gap = float(np.linalg.norm(b.position_m[0, b.index(name)] - a.position_m[0, a.index(name)]))
            if gap > 1e-6:
                said.append(f"{name} stands {gap:.4g} m elsewhere")
    return said
