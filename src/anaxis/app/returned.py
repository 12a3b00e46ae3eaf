"""Cameras that came back: measured, diagnosed and kept. Callers hold the transaction."""

from __future__ import annotations

import hashlib

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from anaxis.app.acting import use_case
from anaxis.core.camera.projection import Projection
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.proof.proof import grade_of
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.typing import Floats
from anaxis.diagnosis.returned import Compared, bare_of, compared, explain
from anaxis.packages.model import Profile
from anaxis.store.archive import pack, scene_from_bytes, track_to_bytes, unpack
from anaxis.store.models import Return, Version
from anaxis.store.queries import found, picture_of_version, recipe_of, track_of

# What numbers are called that somebody typed: frames that are not among them say nothing.
TYPED = "typed.csv"


@use_case("take back")
def keep_return(session: Session, version: Version, profile: Profile, name: str, data: bytes, arrived: Track) -> Return:
    """A camera that came back, with how far it is off and what explains it."""
    track, landmarks, _ = track_of(version)
    picture = picture_of_version(version)
    scene = scene_from_bytes(version.source_file.scene)
    bare = bare_of(scene, version.camera_path, recipe_of(version), track)
    found = explain(track, picture, arrived, profile, bare, name == TYPED)
    try:
        measured: Compared | None = compared(track, landmarks, picture, arrived)
    except BadInput:  # not one frame in common: the diagnosis still says why
        measured = None
    proof = measured.proof if measured else None
    frames = proof.frames if proof is not None else np.zeros(0)
    row = Return(
        version_id=version.id, profile=profile.model_dump(mode="json"), name=name[-200:], sha256=hashlib.sha256(data).hexdigest(), data=data,
        track=track_to_bytes(arrived, NO_LANDMARKS, np.zeros((0, 2, 3))),
        max_px=proof.max_px if proof else 1e9, worst_frame=proof.worst_frame if proof else float(track.frames[0]),
        median_px=proof.median_px if proof else 1e9, grade=proof.grade if proof else grade_of(1e9),
        missing=(len(measured.missing) if measured else len(track)) if name != TYPED else 0,
        diagnosis={"explained": found.explained, "explanations": [e.as_dict() for e in found.explanations]},
        proof=pack({}, {"frames": frames, "deviation_px": proof.deviation_px if proof else np.zeros(0), "arrived": measured.arrived.matrices if measured else np.zeros((0, 3, 4))}),
    )  # fmt: skip
    session.add(row)
    session.flush()
    return row


def get_return(session: Session, number: int) -> Return:
    return found(session, Return, number, "return")


def returns_of(session: Session, version: Version) -> list[Return]:
    """What came back of a version, newest first."""
    query = select(Return).where(Return.version_id == version.id).order_by(Return.id.desc())
    return list(session.execute(query).scalars())


def return_arrays(row: Return) -> tuple[Floats, Floats, Projection]:
    """``frames`` (m,), ``deviation_px`` (m,) and how the camera that came back sees."""
    _, arrays = unpack(row.proof)
    return (
        arrays["frames"],
        arrays["deviation_px"],
        Projection(np.asarray(arrays["arrived"]), picture_of_version(row.version).image),
    )
