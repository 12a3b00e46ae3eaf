"""The package of files for one receiver, made of kept versions; and the ones that took long, kept to be fetched."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import options_from, proof_arrays, shot_camera_of
from anaxis.app.derived.derive import camera_of_version, settings_of, used_version
from anaxis.core.derive import derived_kind
from anaxis.core.derive.joined import Join
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Outgoing
from anaxis.core.progress import Progress, no_progress, part_of
from anaxis.core.proof.proof import Difference, Proof
from anaxis.core.recipe.documents import recipe_document
from anaxis.core.scene.landmarks import unique_name
from anaxis.delivery.deliver import file_stem
from anaxis.delivery.handover import zipped
from anaxis.delivery.options import DeliveryOptions, from_zero_up
from anaxis.delivery.overscan import with_overscan
from anaxis.delivery.ready import made_ready, prepare
from anaxis.delivery.set_files import SetFiles
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import CameraOrigin, Handed, HandedFile, MadeFrom, sheet_html, sheet_pdf
from anaxis.formats.editorial.write import edit_files
from anaxis.library.around import set_of
from anaxis.library.made import packed_up, proved_set
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import Delivery, Version
from anaxis.store.queries import picture_of_version, recipe_of, track_of


def files_of(deliveries: Sequence[Delivery]) -> tuple[str, bytes]:
    """The files of several deliveries, each once, as one zip: its name and its bytes. Raises BadInput where there is none."""
    taken: set[str] = set()
    each = {file.sha256: file for delivery in deliveries for file in delivery.files}
    entries = {unique_name(file.name, taken): file.data for file in each.values()}
    if not entries:
        raise BadInput("These deliveries have no files: deliver again.")
    return f"{deliveries[0].version.camera.shot.name}.zip", zipped(entries)


def as_it_would_go(version: Version, profile: Profile, first: float | None) -> tuple[Outgoing, float | None]:
    """A camera as it would go to a package, its first frame numbered ``first`` there, from 0 up where the package needs that; and
    the number that the first frame gets, None where it keeps its own."""
    track, landmarks, _ = track_of(version)
    picture = picture_of_version(version)
    asked = from_zero_up(DeliveryOptions(first=first), [ShotCamera(track, landmarks, picture)], profile)
    return prepare(track, landmarks, picture, profile, asked.first), asked.first


def bundles_of(
    context: Context,
    versions: Sequence[Version],
    profiles: Sequence[Profile],
    formats: Sequence[str],
    options: DeliveryOptions,
    together: str = "",
    progress: Progress = no_progress,
) -> tuple[str, bytes]:
    """The zip for one package, or one that holds a zip for each of several, by name.

    ``together`` names the file that holds all cameras, in formats that can.
    """
    cameras = [with_set(context, shot_camera_of(context, v, options), v) for v in versions]
    sources = [source_of(v) for v in versions]
    camera = versions[0].camera
    shot, stem = camera.shot.name, file_stem(together or camera.name, f"{len(profiles)}-packages", camera.shot.name)
    packed: dict[str, bytes] = {}
    for i, profile in enumerate(profiles):
        share = part_of(progress, i, len(profiles))
        name, data = context.make(
            stem, packed_up, cameras, sources, profile, list(formats), options, together, shot, progress=share
        )
        packed[name] = data
    return next(iter(packed.items())) if len(packed) == 1 else (f"{stem}.zip", zipped(packed))


def with_set(context: Context, camera: ShotCamera, version: Version) -> ShotCamera:
    """A version's camera with its set, faces and all."""
    along = context.calculators.run(version.source_file.name, set_of, camera_of_version(context, version))
    return replace(camera, along=along)


def proof_of_set(context: Context, version: Version, profile: Profile, formats: str) -> SetFiles:
    """The set of a version written for a package and read back, without its files, seen through the camera meant. Raises
    BadInput."""
    options = DeliveryOptions(set_formats=formats)
    camera = with_set(context, shot_camera_of(context, version, options), version)
    first = as_it_would_go(version, profile, None)[0].track.frames[0]
    return context.make(version.camera.name, proved_set, camera, profile, float(first), options)


def proof_of_delivered_set(context: Context, delivery: Delivery) -> SetFiles:
    """The set that goes along with a delivery, read back and seen through the camera that arrived. Raises BadInput."""
    version, profile = delivery.version, profile_from_dict(delivery.profile, "the delivery's profile")
    options = options_from(delivery.options)
    camera, _ = with_overscan(with_set(context, shot_camera_of(context, version), version), options)
    first = float(outgoing_of(delivery, camera, profile).track.frames[0])
    arrived = proof_arrays(delivery)[1]
    return context.make(version.camera.name, proved_set, camera, profile, first, options, arrived)


def printed_sheet(context: Context, delivery: Delivery) -> tuple[str, bytes]:
    """The transfer sheet of a delivery as PDF, by name."""
    handed = handed_again(context, delivery)
    name = f"{Path(handed.files[0].path.name).stem}.sheet.pdf"
    return name, context.make(name, sheet_pdf, sheet_html(handed))


def source_of(version: Version) -> CameraOrigin:
    """Where a version came from, as it is written on what is handed over."""
    file, recipe = version.source_file, recipe_document(recipe_of(version))
    return CameraOrigin(
        file.name,
        file.sha256,
        version.camera_path,
        recipe,
        version.label,
        _made_from(version),
        tuple(f.message for f in version.open_warnings),
    )


def _made_from(version: Version) -> MadeFrom | None:
    """The inputs of a derived camera, and what is written of its cut; None for one that was taken in."""
    settings = settings_of(version)
    if settings is None or version.derivation is None:
        return None
    inputs = []
    for one in version.made_of:
        used = used_version(one)
        file = used.source_file
        inputs.append({"role": one.role, "version": used.called, "file": file.name, "sha256": file.sha256})
    along = edit_files(settings) if isinstance(settings, Join) else {}
    words = derived_kind(version.derivation.kind).label
    return MadeFrom(words, version.derivation.settings, tuple(inputs), along)


def outgoing_of(delivery: Delivery, camera: ShotCamera, profile: Profile) -> Outgoing:
    """The camera of a delivery as it is meant to be in its package, in the package's numbering."""
    # Fewer keys cost less than what is read off a number; looking for them again would take long.
    asked = replace(options_from(delivery.options), reduce_px=None, samples=1)
    return made_ready(camera, profile, delivery.format, asked, no_progress).outgoing


def handed_again(context: Context, delivery: Delivery) -> Handed:
    """A delivery as its sheet shows it."""
    profile, camera = (
        profile_from_dict(delivery.profile, "the delivery's profile"),
        shot_camera_of(context, delivery.version),
    )
    proof = Proof(
        camera.track.frames, proof_arrays(delivery)[0], delivery.max_px, delivery.worst_frame, delivery.median_px, delivery.grade,
        delivery.test_points, np.array(delivery.arrival.get("missing", []), dtype=np.float64),
        tuple(Difference(**d) for d in delivery.differences),
    )  # fmt: skip
    camera, _ = with_overscan(camera, options_from(delivery.options))
    node = delivery.options.get("node", "")
    files = [HandedFile(Path(f.name), delivery.format, proof, node) for f in delivery.files]
    outgoing = outgoing_of(delivery, camera, profile)
    return Handed(
        camera,
        profile,
        outgoing,
        files,
        list(delivery.notes),
        source_of(delivery.version),
        options=options_from(delivery.options),
    )
