"""Deliveries: written, proved, kept with their files, and found again. Callers hold the transaction."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict, fields, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session, object_session

from anaxis.app.acting import use_case
from anaxis.app.examined import finer_track
from anaxis.app.waiting import examiner_of
from anaxis.core.camera.projection import Projection
from anaxis.core.motion.reduce import Progress
from anaxis.core.proof.proof import Proof
from anaxis.core.recipe.effects import placement_of
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.delivery.deliver import deliver_all, file_stem
from anaxis.delivery.options import USUAL, Options
from anaxis.delivery.proved import Delivered
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages.model import Profile
from anaxis.store.archive import pack, unpack
from anaxis.store.models import Delivery, DeliveryFile, Version
from anaxis.store.queries import NotFound, found, picture_of_version, recipe_of, track_of


def shot_camera_of(version: Version, options: Options = USUAL) -> ShotCamera:
    """A version as it goes out: under the name it is kept by, for two cameras of a file may share their own.

    Where ``options`` ask for samples between frames, those of the source come along.
    """
    track, landmarks, lines_m = track_of(version)
    track = replace(track, name=version.camera.name)
    recipe, finer = recipe_of(version), None
    if options.samples > 1 and has_finer(version):
        source, session = version.source_file, object_session(version)
        assert session is not None
        finer = finer_track(examiner_of(session), source.scene, source.name, version.camera_path, recipe)
    return ShotCamera(
        track, landmarks, picture_of_version(version), placement_of(recipe), lines_m, finer, has_finer(version)
    )


def has_finer(version: Version) -> bool:
    """Whether the source has samples between frames."""
    return any(f["code"] == "off_grid" for f in version.findings)


def deliver_version(
    session: Session,
    version: Version,
    profile: Profile,
    format_key: str,
    options: Options = USUAL,
    progress: Progress = lambda share: None,
) -> Delivery:
    """Write a version for a package, prove it, and keep files and proof together."""
    return deliver_versions(session, [version], profile, format_key, options, progress)[0]


@use_case("deliver")
def deliver_versions(
    session: Session,
    versions: Sequence[Version],
    profile: Profile,
    format_key: str,
    options: Options = USUAL,
    progress: Progress = lambda share: None,
    together: str = "",
) -> list[Delivery]:
    """Versions written into one file called ``together``; a delivery for each, with its own proof and that file."""
    cameras = [shot_camera_of(v, options) for v in versions]
    stem = file_stem(together or cameras[0].track.name, profile.key, versions[0].camera.shot.name)
    with TemporaryDirectory(prefix="anaxis-delivery-") as folder:
        done = deliver_all(cameras, profile, format_key, Path(folder), options, progress, stem)
        names = [c.track.name for c in cameras]
        return [
            keep_delivery(session, v, profile, format_key, d, names if len(names) > 1 else [])
            for v, d in zip(versions, done, strict=True)
        ]


def keep_delivery(
    session: Session, version: Version, profile: Profile, format_key: str, done: Delivered, together: Sequence[str] = ()
) -> Delivery:
    """What was delivered of a version; ``together`` names the cameras that share its file."""
    proof = done.proof
    delivery = Delivery(
        version_id=version.id,
        profile=profile.model_dump(mode="json"),
        format=format_key,
        notes=list(done.outgoing.notes),
        options=_options_of(done) | ({"together": list(together)} if together else {}),
        max_px=proof.max_px,
        worst_frame=proof.worst_frame,
        median_px=proof.median_px,
        grade=proof.grade,
        test_points=proof.test_points,
        arrival=arrival_of(proof),
        proof=pack({}, {"deviation_px": proof.deviation_px, "arrived": done.seen.projection.matrices}),
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


def arrival_of(proof: Proof) -> dict[str, Any]:
    """What arrived beside the picture, as plain JSON; empty where all of it did."""
    out: dict[str, Any] = {}
    if len(proof.missing):
        out["missing"] = [plain_frame(f) for f in proof.missing.tolist()]
    if proof.differences:
        out["differences"] = [d._asdict() for d in proof.differences]
    if proof.between_px is not None and proof.between_frame is not None:
        out["between"] = {"max_px": proof.between_px, "worst_frame": proof.between_frame}
    return out


def _options_of(done: Delivered) -> dict[str, Any]:
    """What was asked of a delivery and what came of it, as plain JSON."""
    usual = asdict(Options())
    out = {k: v for k, v in asdict(done.options).items() if v != usual[k]}
    if done.node:
        out["node"] = done.node
    return out if done.reduced is None else out | {"keys": done.reduced.summary()}


def options_from(kept: Mapping[str, Any]) -> Options:
    """What was asked of a delivery, from what is kept of it."""
    return Options(**{f.name: kept[f.name] for f in fields(Options) if f.name in kept})


def newest_deliveries(version: Version) -> list[Delivery]:
    """The newest delivery of a version to each package, in each format that it went in."""
    return list({(d.profile["key"], d.format): d for d in reversed(version.deliveries)}.values())


def furthest_off(deliveries: list[Delivery]) -> Delivery | None:
    """Of several deliveries the one to speak of: one that does not match before one that does, the worst first."""
    return max(deliveries, key=lambda d: (not d.matches, d.max_px), default=None)


def proof_arrays(delivery: Delivery) -> tuple[Floats, Projection]:
    """``deviation_px`` (n,) of a delivery, and how the camera that arrived sees."""
    _, arrays = unpack(delivery.proof)
    image = picture_of_version(delivery.version).image
    return np.asarray(arrays["deviation_px"]), Projection(np.asarray(arrays["arrived"]), image)


def get_delivery(session: Session, delivery_id: int) -> Delivery:
    return found(session, Delivery, delivery_id, "delivery")


def get_delivery_file(session: Session, delivery_id: int, name: str) -> DeliveryFile:
    row = session.execute(
        select(DeliveryFile).where(DeliveryFile.delivery_id == delivery_id, DeliveryFile.name == name)
    ).scalar_one_or_none()
    if row is None:
        raise NotFound(f"Delivery {delivery_id} has no file {name}.")
    return row
