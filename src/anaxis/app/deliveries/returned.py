"""Cameras that came back: measured, diagnosed and kept. Callers hold the transaction."""

from __future__ import annotations

import hashlib
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.cameras.take_in import disk_name
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import newest_deliveries, options_from
from anaxis.app.typed_numbers import package_table, table_of_numbers
from anaxis.app.webhooks.events import emit_returned
from anaxis.core.camera.projection import Projection
from anaxis.core.camera.track import Track
from anaxis.core.proof.proof import grade_of
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Floats
from anaxis.delivery.numbering import Numbering, nearest_sent, numberings
from anaxis.delivery.overscan import with_overscan
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.returned import CameBack, as_own_table, bare_of, is_own_table
from anaxis.library.archive import pack, scene_from_bytes, scene_to_bytes, track_to_bytes, unpack
from anaxis.library.returned import camera_came_back, explained, table_came_back
from anaxis.library.runner import Runner
from anaxis.packages.model import Profile
from anaxis.sandbox.guard import ParserPool
from anaxis.store.models import Return, Version
from anaxis.store.queries import found, picture_of_version, recipe_of, track_of

# What numbers are called that somebody typed: frames that are not among them say nothing.
TYPED = "typed.csv"


def take_back(
    context: Context, parsers: ParserPool, version: Version, package: Profile, name: str, data: bytes
) -> Return:
    """A file that the package exported, read apart, measured and explained. Raises BadInput."""
    picture, meant = picture_of_version(version), track_of(version)[0]
    context.release_connection()
    arrived = _read(parsers, context.calculators, name, data, package, picture, meant)
    return keep_return(context, version, package, name, data, arrived)


def take_back_typed(context: Context, parsers: ParserPool, version: Version, package: Profile, numbers: str) -> Return:
    """The same of numbers that somebody typed, in the package's own layout or as frame, position and angles."""
    table = package_table(numbers, package)
    if table is None:
        package = package.model_copy(update={"table": None})
        table = table_of_numbers(numbers, track_of(version)[0])
    return take_back(context, parsers, version, package, TYPED, table.encode())


def _read(
    parsers: ParserPool, runner: Runner, name: str, data: bytes, package: Profile, picture: Picture, meant: Track
) -> CameBack:
    with TemporaryDirectory(prefix="anaxis-return-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(data)
        if is_own_table(path, package):
            return runner.run(path.name, table_came_back, path.name, data, package, picture, meant)
        scene = parsers.read(path)
        if scene.columns is not None:
            own = as_own_table(scene, package)
            return runner.run(path.name, table_came_back, path.name, data, own, picture, meant)
        return runner.run(name, camera_came_back, scene_to_bytes(scene), package, meant)


def _as_handed_over(
    version: Version, profile: Profile, track: Track, picture: Picture, back: CameBack
) -> tuple[ShotCamera, Numbering]:
    """The camera as its newest deliveries took it to that package: with their overscan and frame numbers, where the one that
    came back has them."""
    sent = [d for d in newest_deliveries(version) if d.profile["key"] == profile.key]
    among = numberings(track, profile, [(d.format, options_from(d.options)) for d in sent])
    plain = ShotCamera(track, NO_LANDMARKS, picture)
    asked = next((d.options for d in version.deliveries if d.profile["key"] == profile.key), {})
    larger = [with_overscan(plain, options_from(asked))[0]] if asked.get("overscan") else []
    return nearest_sent([*larger, plain], among, back, profile)


@use_case("take back")
def keep_return(context: Context, version: Version, profile: Profile, name: str, data: bytes, back: CameBack) -> Return:
    """A camera that came back, with how far it is off and what explains it."""
    track, landmarks, _ = track_of(version)
    sent, numbering = _as_handed_over(version, profile, track, picture_of_version(version), back)
    scene = scene_from_bytes(version.source_file.scene)
    above = bare_of(scene, version.camera_path, recipe_of(version), sent.track)
    found, measured = explained(sent, landmarks, above, numbering, back, profile, name == TYPED)
    track = sent.track
    if measured is not None and sent.render is not None:
        measured = replace(measured, arrived=measured.arrived.in_plate(sent.render))
    proof = measured.proof if measured else None
    frames = proof.frames if proof is not None else np.zeros(0)
    row = Return(
        version_id=version.id, profile=profile.model_dump(mode="json"), name=name[-200:], sha256=hashlib.sha256(data).hexdigest(), data=data,
        track=track_to_bytes(back.track, NO_LANDMARKS, np.zeros((0, 2, 3))),
        max_px=proof.max_px if proof else 1e9, worst_frame=proof.worst_frame if proof else float(track.frames[0]),
        median_px=proof.median_px if proof else 1e9, grade=proof.grade if proof else grade_of(1e9),
        missing=(len(proof.missing) if proof else len(track)) if name != TYPED else 0,
        diagnosis={"explained": found.explained, "numbering": numbering.sentence, "explanations": [e.as_dict() for e in found.explanations],
                   "differences": [d._asdict() for d in proof.differences] if proof else []},
        proof=pack({}, {"frames": frames, "deviation_px": proof.deviation_px if proof else np.zeros(0), "arrived": measured.arrived.matrices if measured else np.zeros((0, 3, 4))}),
    )  # fmt: skip
    context.add(row)
    context.flush()
    emit_returned(context, row)
    return row


def get_return(context: Context, number: int) -> Return:
    return found(context, Return, number, "return")


def returns_of(context: Context, version: Version) -> list[Return]:
    """What came back of a version, newest first."""
    query = select(Return).where(Return.version_id == version.id).order_by(Return.id.desc())
    return list(context.execute(query).scalars())


def return_arrays(row: Return) -> tuple[Floats, Floats, Projection]:
    """``frames`` (m,), ``deviation_px`` (m,) and how the camera that came back sees."""
    _, arrays = unpack(row.proof)
    return (
        arrays["frames"],
        arrays["deviation_px"],
        Projection(np.asarray(arrays["arrived"]), picture_of_version(row.version).image),
    )
