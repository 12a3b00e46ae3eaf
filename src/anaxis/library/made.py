"""What takes a processor for a while: files written and proved, packages of files, printed sheets, cameras made of others.

For a page it is done in a process apart, so that no other page waits for it; the worker and the command line do it where
they are, and hear how far it is.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection
from anaxis.core.camera.track import Track
from anaxis.core.derive import derived_kind
from anaxis.core.derive.derived import Input, scene_of
from anaxis.core.motion.resample import at_rate, resampling_error
from anaxis.core.outgoing import Outgoing
from anaxis.core.progress import Progress, no_progress
from anaxis.core.proof.proof import Proof
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Archive
from anaxis.delivery.deliver import deliver_all, deliver_in_formats, file_stem
from anaxis.delivery.handover import handover_zip
from anaxis.delivery.options import DeliveryOptions, changed_of
from anaxis.delivery.proved import Delivered
from anaxis.delivery.set_files import SetFiles, set_files
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import CameraOrigin, handed_of
from anaxis.formats.track_json.document import track_document
from anaxis.library.archive import pack, scene_to_bytes
from anaxis.packages.model import Profile

Document = dict[str, Any]


@dataclass(frozen=True)
class WrittenFile:
    """A file that was written."""

    name: str
    sha256: str
    data: Archive


@dataclass(frozen=True)
class WrittenDelivery:
    """What is kept of a delivery (its notes, options, grade and so on), the arrays of its proof, and its files."""

    kept: Document
    proof: Archive
    files: tuple[WrittenFile, ...]


@dataclass(frozen=True)
class DerivedCamera:
    """A camera made from others: the scene that holds it, and its track document."""

    scene: Archive
    document: Archive


@dataclass(frozen=True)
class Retimed:
    """What sampling anew loses at most, and on which frame."""

    max_px: float
    worst_frame: float


def written(
    cameras: Sequence[ShotCamera],
    profile: Profile,
    format_key: str,
    options: DeliveryOptions,
    stem: str,
    progress: Progress = no_progress,
) -> list[WrittenDelivery]:
    """Cameras in one file, proved: what is kept of each."""
    out = []
    with TemporaryDirectory(prefix="anaxis-delivery-") as folder:
        for done in deliver_all(cameras, profile, format_key, Path(folder), options, progress, stem):
            files = []
            for path in done.files:
                data = path.read_bytes()
                files.append(WrittenFile(path.name, hashlib.sha256(data).hexdigest(), data))
            arrays = {"deviation_px": done.proof.deviation_px, "arrived": done.seen.projection.matrices}
            out.append(WrittenDelivery(_kept(done), pack({}, arrays), tuple(files)))
    return out


def _kept(done: Delivered) -> Document:
    proof = done.proof
    return {
        "notes": list(done.outgoing.notes),
        "options": _options_of(done),
        "max_px": proof.max_px,
        "worst_frame": proof.worst_frame,
        "median_px": proof.median_px,
        "grade": proof.grade,
        "test_points": proof.test_points,
        "arrival": arrival_of(proof),
    }


def arrival_of(proof: Proof) -> Document:
    """What arrived beside the picture, as plain JSON; empty where all of it did."""
    out: Document = {}
    if len(proof.missing):
        out["missing"] = [plain_frame(f) for f in proof.missing.tolist()]
    if proof.differences:
        out["differences"] = [d._asdict() for d in proof.differences]
    if proof.between_px is not None and proof.between_frame is not None:
        out["between"] = {"max_px": proof.between_px, "worst_frame": proof.between_frame}
    if proof.plate_px is not None and proof.plate_frame is not None:
        out["plate"] = {"max_px": proof.plate_px, "worst_frame": proof.plate_frame}
    return out


def _options_of(done: Delivered) -> Document:
    """What was asked of a delivery and what came of it, as plain JSON."""
    out = changed_of(done.options)
    if done.node:
        out["node"] = done.node
    return out if done.reduced is None else out | {"keys": done.reduced.summary()}


def packed_up(
    cameras: Sequence[ShotCamera],
    sources: Sequence[CameraOrigin],
    profile: Profile,
    formats: Sequence[str],
    options: DeliveryOptions,
    together: str,
    shot: str,
    progress: Progress = no_progress,
) -> tuple[str, Archive]:
    """The package of files for one receiver: its name, and the zip."""
    with TemporaryDirectory(prefix="anaxis-bundle-") as folder:
        sent = deliver_in_formats(cameras, profile, formats, Path(folder), options, together, progress, shot)
        data = handover_zip(
            [
                handed_of(camera, profile, of_one, source, sent.refused, shot)
                for camera, source, of_one in zip(cameras, sources, sent.done, strict=True)
            ]
        )
    return f"{file_stem(together or cameras[0].track.name, profile.key, shot)}.zip", data


def proved_set(
    camera: ShotCamera, profile: Profile, first: float, options: DeliveryOptions, arrived: Projection | None = None
) -> SetFiles:
    """What was measured of each object of a set that is written for a package and read back; the files are not kept."""
    return replace(set_files(camera, profile, first, options, arrived=arrived), entries={})


def retimed(track: Track, rate: Fraction, image: Image, fit: str) -> Retimed:
    """What sampling a track anew at another rate would lose, at the source's own samples."""
    lost = resampling_error(track, at_rate(track, rate, "time"), image, fit)
    return Retimed(lost.max_px, lost.worst_frame)


def derived(kind: str, inputs: Mapping[str, Input], settings: Document, file: str) -> DerivedCamera:
    """A camera made from others."""
    found = derived_kind(kind).derive(inputs, settings)
    scene = scene_of(found, file)
    document = track_document(Outgoing(found.track, scene.convention, found.image, found.fit, found.landmarks, ()))
    return DerivedCamera(scene_to_bytes(scene), json.dumps(document, allow_nan=False).encode())
