"""Deliveries: written, proved, kept with their files, and found again. Callers hold the transaction."""

from __future__ import annotations

import hashlib
from dataclasses import asdict, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from anaxis.core.reduce import Progress
from anaxis.core.typing import Floats
from anaxis.formats.scene_archive import pack, unpack
from anaxis.profiles.model import Profile
from anaxis.sending import Delivered, Options, deliver
from anaxis.store.models import Delivery, DeliveryFile, Version
from anaxis.store.queries import NotFound, picture_of_version, track_of


def deliver_version(
    session: Session, version: Version, profile: Profile, format_key: str, options: Options = Options(),  # noqa: B008  (frozen)
    progress: Progress = lambda share: None,
) -> Delivery:  # fmt: skip
    """Write a version for a package, prove it, and keep files and proof together."""
    track, landmarks, _ = track_of(version)
    # Under the name it is kept by: two cameras of a file may share their own.
    track = replace(track, name=version.camera.name)
    picture = picture_of_version(version)
    with TemporaryDirectory(prefix="anaxis-delivery-") as folder:
        done = deliver(track, landmarks, picture, profile, format_key, Path(folder), options, progress)
        return keep_delivery(session, version, profile, format_key, done)


def keep_delivery(
    session: Session, version: Version, profile: Profile, format_key: str, done: Delivered
) -> Delivery:
    proof = done.proof
    delivery = Delivery(
        version_id=version.id,
        profile=profile.model_dump(mode="json"),
        format=format_key,
        notes=list(done.outgoing.notes),
        options=_options_of(done),
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


def _options_of(done: Delivered) -> dict[str, Any]:
    """What was asked of a delivery and what came of it, as plain JSON."""
    reduced, out = done.reduced, {k: v for k, v in asdict(done.options).items() if v is not None}
    if reduced is None:
        return out
    return out | {"keys": reduced.summary()}


def newest_deliveries(version: Version) -> list[Delivery]:
    """The newest delivery of a version to each package it went to."""
    return list({d.profile["key"]: d for d in reversed(version.deliveries)}.values())


def furthest_off(deliveries: list[Delivery]) -> Delivery | None:
    """Of several deliveries the one to speak of: one that does not match before one that does, the worst first."""
    return max(deliveries, key=lambda d: (not d.matches, d.max_px), default=None)


def proof_arrays(delivery: Delivery) -> tuple[Floats, Floats]:
    """``deviation_px`` (n,) and the arrived pixel matrices (n, 3, 4) of a delivery."""
    _, arrays = unpack(delivery.proof)
    return np.asarray(arrays["deviation_px"]), np.asarray(arrays["arrived"])


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
