"""Deliveries: written, proved, kept with their files, and found again. Callers hold the transaction."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields, replace
from typing import Any

import numpy as np
from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.plates.plates import pictures_of, plates_of
from anaxis.app.webhooks.events import emit_delivered
from anaxis.core.camera.projection import Projection
from anaxis.core.errors import BadInput
from anaxis.core.image_plane import Pictures
from anaxis.core.progress import Progress, no_progress
from anaxis.core.recipe.effects import placement_of
from anaxis.core.typing import Floats
from anaxis.delivery.deliver import file_stem
from anaxis.delivery.options import USUAL, DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.library.archive import unpack
from anaxis.library.made import WrittenDelivery, written
from anaxis.library.scene_report import FileCamera, finer_track
from anaxis.packages.model import Profile
from anaxis.store.contents import keep_bytes
from anaxis.store.models import Delivery, DeliveryFile, Version
from anaxis.store.queries import NotFound, found, picture_of_version, recipe_of, track_of


def shot_camera_of(context: Context, version: Version, options: DeliveryOptions = USUAL) -> ShotCamera:
    """A version as it goes out: under the name it is kept by, for two cameras of a file may share their own.

    Where ``options`` ask for samples between frames, from the source come along.
    """
    track, landmarks, lines_m = track_of(version)
    track = replace(track, name=version.camera.name)
    recipe, finer = recipe_of(version), None
    if options.samples > 1 and has_finer(version):
        source = version.source_file
        camera = FileCamera(source.scene, version.camera_path, recipe)
        finer = context.calculators.run(source.name, finer_track, camera)
    pictures = _pictures(context, version, track.distortion is not None) if options.plane_m is not None else None
    return ShotCamera(
        track, landmarks, picture_of_version(version), placement_of(recipe), lines_m, finer, has_finer(version),
        pictures=pictures,
    )  # fmt: skip


def _pictures(context: Context, version: Version, bent: bool) -> Pictures | None:
    """What is on an image plane: the shot's undistorted plate where there is one, else its first.

    Raises BadInput where the lens is ``bent`` and there is none but plates as shot: on a pinhole's picture they lie wrong.
    """
    plates = [p for p in plates_of(context, version.camera.shot) if p.kind != "equirectangular"]
    if not plates:
        return None
    plate = next((p for p in plates if p.kind == "undistorted"), None)
    if plate is None and bent:
        raise BadInput(
            f"The image plane shows the picture without distortion, but '{plates[0].name}' is as shot. Write the undistorted plate on Lens first, or deliver without an image plane."
            "",
            "plate_not_undistorted",
        )
    plate = plate or plates[0]
    return pictures_of(context, plate)


def has_finer(version: Version) -> bool:
    """Whether the source has samples between frames."""
    return any(f["code"] == "off_grid" for f in version.findings)


def deliver_version(
    context: Context,
    version: Version,
    profile: Profile,
    format_key: str,
    options: DeliveryOptions = USUAL,
    progress: Progress = no_progress,
) -> Delivery:
    """Write a version for a package, prove it, and keep files and proof together."""
    return deliver_versions(context, [version], profile, format_key, options, progress)[0]


def written_for(
    context: Context,
    versions: Sequence[Version],
    profile: Profile,
    format_key: str,
    options: DeliveryOptions = USUAL,
    progress: Progress = no_progress,
    together: str = "",
) -> list[WrittenDelivery]:
    """Versions written into one file and proved, and nothing kept yet."""
    cameras = [shot_camera_of(context, v, options) for v in versions]
    shots = {v.camera.shot.name for v in versions}
    stem = file_stem(
        together or cameras[0].track.name, profile.key, versions[0].camera.shot.name if len(shots) == 1 else ""
    )
    return context.make(stem, written, cameras, profile, format_key, options, stem, progress=progress)


@use_case("deliver")
def deliver_versions(
    context: Context,
    versions: Sequence[Version],
    profile: Profile,
    format_key: str,
    options: DeliveryOptions = USUAL,
    progress: Progress = no_progress,
    together: str = "",
    ready: list[WrittenDelivery] | None = None,
) -> list[Delivery]:
    """Versions written into one file called ``together``; a delivery for each, with its own proof and that file.

    ``ready`` is what :func:`written_for` made of them before.
    """
    done = ready or written_for(context, versions, profile, format_key, options, progress, together)
    names = [v.camera.name for v in versions]
    return [
        _keep(context, v, profile, format_key, d, names if len(names) > 1 else [])
        for v, d in zip(versions, done, strict=True)
    ]


def _keep(
    context: Context,
    version: Version,
    profile: Profile,
    format_key: str,
    done: WrittenDelivery,
    together: Sequence[str],
) -> Delivery:
    """What was delivered of a version; ``together`` names the cameras that share its file."""
    kept = done.kept
    options = kept["options"] | ({"together": list(together)} if together else {})
    delivery = Delivery(
        version_id=version.id, profile=profile.model_dump(mode="json"), format=format_key, proof=done.proof,
        **(kept | {"options": options}),
    )  # fmt: skip
    context.add(delivery)
    context.flush()
    for file in done.files:
        held = keep_bytes(context, file.data)
        context.add(DeliveryFile(delivery_id=delivery.id, name=file.name, sha256=held, size=len(file.data)))
    context.flush()
    emit_delivered(context, delivery)
    return delivery


def options_from(kept: Mapping[str, Any]) -> DeliveryOptions:
    """What was asked of a delivery, from what is kept of it."""
    return DeliveryOptions(**{f.name: kept[f.name] for f in fields(DeliveryOptions) if f.name in kept})


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


def get_delivery(context: Context, delivery_id: int) -> Delivery:
    return found(context, Delivery, delivery_id, "delivery")


def get_delivery_file(context: Context, delivery_id: int, name: str) -> DeliveryFile:
    row = context.execute(
        select(DeliveryFile).where(DeliveryFile.delivery_id == delivery_id, DeliveryFile.name == name)
    ).scalar_one_or_none()
    if row is None:
        raise NotFound(f"Delivery {delivery_id} has no file {name}.")
    return row
