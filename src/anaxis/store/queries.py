"""What the pages ask the store to keep and to find. Callers hold the transaction."""

from __future__ import annotations

import hashlib
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, joinedload, selectinload

from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.lens import Image
from anaxis.core.outgoing import Landmarks
from anaxis.core.scene import Scene
from anaxis.core.timing import rate_text
from anaxis.core.track import Track
from anaxis.core.typing import Floats
from anaxis.flow import CameraReport, Delivered, Picture, landmarks_of, set_segments_m
from anaxis.formats.scene_archive import (
    pack,
    scene_from_bytes,
    scene_to_bytes,
    track_from_bytes,
    track_to_bytes,
    unpack,
)
from anaxis.formats.track_json import convention_document
from anaxis.profiles.model import Profile
from anaxis.store.models import Camera, Delivery, DeliveryFile, Shot, Show, SourceFile, Version

_STAGED_FOR = timedelta(days=7)


class NotFound(BadInput):
    """Something asked for by its number is not in the store."""


def stage_file(session: Session, name: str, data: bytes, scene: Scene) -> SourceFile:
    """Put an uploaded file and its scene aside until a camera of it is kept, or a week has passed."""
    stale = datetime.now(UTC) - _STAGED_FOR
    session.execute(delete(SourceFile).where(~SourceFile.kept, SourceFile.created_at < stale))
    row = SourceFile(
        name=name,
        sha256=hashlib.sha256(data).hexdigest(),
        size=len(data),
        kept=False,
        data=data,
        scene=scene_to_bytes(scene),
    )
    session.add(row)
    session.flush()
    return row


def staged_scene(session: Session, source_file_id: int) -> tuple[SourceFile, Scene]:
    row = session.get(SourceFile, source_file_id)
    if row is None:
        raise NotFound(
            f"There is no uploaded file {source_file_id}; it may have waited too long: drop it again."
        )
    return row, scene_from_bytes(row.scene)


def find_or_make_show(session: Session, name: str) -> Show:
    return _find_or_make(session, Show, name=name)


def find_or_make_shot(session: Session, show: Show, name: str) -> Shot:
    return _find_or_make(session, Shot, show_id=show.id, name=name)


def newest_show_name(session: Session) -> str:
    """The show worked on last, to be proposed for the next file; "" where there is none."""
    return session.execute(select(Show.name).order_by(Show.id.desc()).limit(1)).scalar() or ""


def _find_or_make(session: Session, model: Any, **key: object) -> Any:
    """Two people making the same thing at once both get the one row."""
    session.execute(insert(model).values(**key).on_conflict_do_nothing())
    return session.execute(select(model).filter_by(**key)).scalar_one()


def keep_camera(
    session: Session,
    shot: Shot,
    source: SourceFile,
    scene: Scene,
    report: CameraReport,
    name: str,
    picture: Picture,
) -> Version:
    """Keep one camera of a file; a camera of that name in the shot gets a new version.

    Raises BadInput for a camera that could not be flattened or has unusable numbers.
    """
    if report.baked is None or not report.usable:
        worst = next(f for f in report.findings if f.severity == "error")
        raise BadInput(f"{report.name} cannot be kept: {worst.message} {worst.remedy}")
    camera: Camera = _find_or_make(session, Camera, shot_id=shot.id, name=name)
    baked = report.baked
    track = baked.track
    version = Version(
        camera_id=camera.id,
        number=_next_number(session, camera.id),
        source_file_id=source.id,
        camera_path=report.path,
        width_px=picture.image.width_px,
        height_px=picture.image.height_px,
        pixel_aspect=picture.image.pixel_aspect,
        image_guessed=picture.image_guessed,
        source_fit=picture.fit,
        fit_guessed=picture.fit_guessed,
        facts=_facts(scene, report),
        findings=[f.as_dict() for f in report.findings],
        track=track_to_bytes(
            track, landmarks_of(scene, track.frames), set_segments_m(scene, float(track.frames[0]))
        ),
    )
    session.add(version)
    session.execute(update(SourceFile).where(SourceFile.id == source.id).values(kept=True))
    session.flush()
    return version


def _next_number(session: Session, camera_id: int) -> int:
    """The number of a camera's next version; the row lock keeps them without gaps or clashes."""
    session.execute(select(Camera.id).where(Camera.id == camera_id).with_for_update())
    last = session.execute(select(func.max(Version.number)).where(Version.camera_id == camera_id)).scalar()
    return (last or 0) + 1


def correct_picture(session: Session, version: Version, image: Image, source_fit: str) -> Version:
    """The same track with another picture, as a new version of its camera; nothing in it is a guess."""
    same = ("camera_id", "source_file_id", "camera_path", "facts", "findings", "track")
    made = Version(
        **{k: getattr(version, k) for k in same},
        number=_next_number(session, version.camera_id),
        width_px=image.width_px,
        height_px=image.height_px,
        pixel_aspect=image.pixel_aspect,
        image_guessed=False,
        source_fit=source_fit,
        fit_guessed=False,
    )
    session.add(made)
    session.flush()
    return made


def _facts(scene: Scene, report: CameraReport) -> dict[str, Any]:
    """What the pages say of the source without opening it again."""
    assert report.baked is not None
    lens = report.baked.track.lens
    return {
        "format": scene.format,
        "up_axis": scene.convention.up_axis,
        "metres_per_unit": scene.convention.metres_per_unit,
        "convention": convention_document(scene.convention),
        "rate": rate_text(scene.rate),
        "first_frame": report.first_frame,
        "last_frame": report.last_frame,
        "samples": report.samples,
        "animated": report.animated,
        "lens_animated": report.lens_animated,
        "focal_mm": [float(lens.focal_mm.min()), float(lens.focal_mm.max())],
        "film_mm": [float(lens.film_width_mm[0]), float(lens.film_height_mm[0])],
        "squeeze": float(lens.squeeze[0]),
        "guesses": scene.guesses,
        "parents": [
            {"path": n.path, "moves": bool(len(n.keys) > 1), "samples": len(n.keys)}
            for n in report.baked.parents
        ],
        "camera_moves": bool(len(report.baked.node.keys) > 1),
        "scale": [float(report.baked.scale.min()), float(report.baked.scale.max())],
    }


def picture_of_version(version: Version) -> Picture:
    return Picture(
        Image(version.width_px, version.height_px, version.pixel_aspect),
        version.source_fit,
        version.image_guessed,
        version.fit_guessed,
    )


def findings_of(version: Version) -> list[Finding]:
    return [Finding(**f) for f in version.findings]


def track_of(version: Version) -> tuple[Track, Landmarks, Floats]:
    """The baked track, its landmarks and the set's lines (s, 2, 3)."""
    return track_from_bytes(version.track)


def keep_delivery(
    session: Session, version: Version, profile: Profile, format_key: str, done: Delivered
) -> Delivery:
    proof = done.proof
    delivery = Delivery(
        version_id=version.id,
        profile=profile.model_dump(mode="json"),
        format=format_key,
        notes=list(done.outgoing.notes),
        max_px=proof.max_px,
        worst_frame=proof.worst_frame,
        median_px=proof.median_px,
        grade=proof.grade,
        test_points=proof.test_points,
        proof=pack({}, {"deviation_px": proof.deviation_px, "arrived": done.seen.pixel_matrices}),
    )
    session.add(delivery)
    session.flush()
    for path in done.files:
        data = path.read_bytes()
        session.add(
            DeliveryFile(
                delivery_id=delivery.id,
                name=path.name,
                sha256=hashlib.sha256(data).hexdigest(),
                size=len(data),
                data=data,
            )
        )
    session.flush()
    return delivery


def newest_deliveries(version: Version) -> list[Delivery]:
    """The newest delivery of a version to each package it went to."""
    return list({d.profile["key"]: d for d in reversed(version.deliveries)}.values())


def proof_arrays(delivery: Delivery) -> tuple[Floats, Floats]:
    """``deviation_px`` (n,) and the arrived pixel matrices (n, 3, 4) of a delivery."""
    _, arrays = unpack(delivery.proof)
    return np.asarray(arrays["deviation_px"]), np.asarray(arrays["arrived"])


def all_shows(session: Session) -> list[Show]:
    loading = (
        selectinload(Show.shots)
        .selectinload(Shot.cameras)
        .selectinload(Camera.versions)
        .selectinload(Version.deliveries)
    )
    return list(session.execute(select(Show).order_by(Show.name).options(loading)).scalars())


def get_version(session: Session, camera_id: int, number: int | None = None) -> Version:
    """A camera's version by number, or its newest; raises NotFound."""
    query = (
        select(Version)
        .where(Version.camera_id == camera_id)
        .order_by(Version.number.desc())
        .limit(1)
        .options(
            joinedload(Version.camera).joinedload(Camera.shot).joinedload(Shot.show),
            joinedload(Version.source_file),
        )
    )
    if number is not None:
        query = query.where(Version.number == number)
    version = session.execute(query).scalar_one_or_none()
    if version is None:
        what = f"camera {camera_id}" if number is None else f"version {number} of camera {camera_id}"
        raise NotFound(f"There is no {what}: go back to the shots and choose one.")
    return version


def get_delivery(session: Session, delivery_id: int) -> Delivery:
    delivery = session.get(Delivery, delivery_id)
    if delivery is None:
        raise NotFound(f"There is no delivery {delivery_id}: go back to the shots and choose one.")
    return delivery


def get_delivery_file(session: Session, delivery_id: int, name: str) -> DeliveryFile:
    row = session.execute(
        select(DeliveryFile).where(DeliveryFile.delivery_id == delivery_id, DeliveryFile.name == name)
    ).scalar_one_or_none()
    if row is None:
        raise NotFound(f"Delivery {delivery_id} has no file {name}.")
    return row
