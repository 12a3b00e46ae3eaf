"""The package of files for one receiver, made of kept versions; and the ones that took long, kept to be fetched."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from anaxis.app.deliver import options_from, proof_arrays, shot_camera_of
from anaxis.core.motion.reduce import Progress, part_of
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.proof import Difference, Proof
from anaxis.core.recipe.documents import recipe_document
from anaxis.delivery.deliver import deliver_in_formats, file_stem
from anaxis.delivery.handover import handover_zip, zipped
from anaxis.delivery.options import Options
from anaxis.delivery.ready import made_ready
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import Handed, HandedFile, Source, handed_of
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import Delivery, MadeFile, Version
from anaxis.store.queries import NotFound, recipe_of


def bundle_of(
    versions: Sequence[Version],
    profile: Profile,
    formats: Sequence[str],
    options: Options,
    together: str = "",
    progress: Progress = lambda share: None,
) -> tuple[str, bytes]:
    """Name and bytes of the zip; ``together`` names the file that holds all cameras, in formats that can."""
    cameras = [shot_camera_of(v, options) for v in versions]
    shot = versions[0].camera.shot.name
    with TemporaryDirectory(prefix="anaxis-bundle-") as folder:
        sent = deliver_in_formats(cameras, profile, formats, Path(folder), options, together, progress, shot)
        data = handover_zip(
            [
                handed_of(camera, profile, of_one, source_of(version), sent.refused)
                for camera, version, of_one in zip(cameras, versions, sent.done, strict=True)
            ]
        )
    return f"{file_stem(together or cameras[0].track.name, profile.key, shot)}.zip", data


def bundles_of(
    versions: Sequence[Version],
    profiles: Sequence[Profile],
    formats: Sequence[str],
    options: Options,
    together: str = "",
    progress: Progress = lambda share: None,
) -> tuple[str, bytes]:
    """The zip for one package, or one that holds a zip for each of several."""
    made: dict[str, bytes] = {}
    for i, profile in enumerate(profiles):
        share = part_of(progress, i, len(profiles))
        name, data = bundle_of(versions, profile, formats, options, together, share)
        made[name] = data
    if len(made) == 1:
        return next(iter(made.items()))
    camera = versions[0].camera
    stem = file_stem(together or camera.name, f"{len(made)}-packages", camera.shot.name)
    return f"{stem}.zip", zipped(made)


def source_of(version: Version) -> Source:
    """Where a version came from, as it is written on what is handed over."""
    file = version.source_file
    return Source(file.name, file.sha256, version.camera_path, recipe_document(recipe_of(version)), version.label)


def outgoing_of(delivery: Delivery, camera: ShotCamera, profile: Profile) -> Outgoing:
    """The camera of a delivery as it is meant to be in its package, in the package's numbering."""
    # Fewer keys cost less than what is read off a number; looking for them again would take long.
    asked = replace(options_from(delivery.options), reduce_px=None, samples=1)
    return made_ready(camera, profile, delivery.format, asked, lambda share: None).outgoing


def handed_again(delivery: Delivery) -> Handed:
    """A delivery as its sheet shows it."""
    profile, camera = (profile_from_dict(delivery.profile, "the delivery's profile"), shot_camera_of(delivery.version))
    proof = Proof(
        camera.track.frames, proof_arrays(delivery)[0], delivery.max_px, delivery.worst_frame, delivery.median_px, delivery.grade,
        delivery.test_points, np.array(delivery.arrival.get("missing", []), dtype=np.float64),
        tuple(Difference(**d) for d in delivery.differences),
    )  # fmt: skip
    node = delivery.options.get("node", "")
    files = [HandedFile(Path(f.name), delivery.format, proof, node) for f in delivery.files]
    outgoing = outgoing_of(delivery, camera, profile)
    return Handed(camera, profile, outgoing, files, list(delivery.notes), source_of(delivery.version))


def keep_made_file(session: Session, name: str, data: bytes) -> MadeFile:
    made = MadeFile(name=name, data=data)
    session.add(made)
    session.flush()
    return made


def get_made_file(session: Session, made_id: Any) -> MadeFile:
    made = session.get(MadeFile, made_id) if isinstance(made_id, int) else None
    if made is None:
        raise NotFound("That file is no longer there: make it again from the camera's Deliver station.")
    return made
