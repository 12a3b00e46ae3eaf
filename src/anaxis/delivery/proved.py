"""A written file opened again as its package would, and measured against the camera meant."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from anaxis.core.camera.plate.bend import bend_of
from anaxis.core.camera.plate.overscan import Overscan
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.checks import is_still
from anaxis.core.motion.cuts import places_between
from anaxis.core.motion.reduce import Reduced
from anaxis.core.motion.resample import landmarks_at, sampled
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.beside import arrived_frames
from anaxis.core.proof.proof import Proof, proof_of, prove
from anaxis.core.time.rates import nearest_places
from anaxis.core.typing import Floats, Ints
from anaxis.delivery.options import USUAL, DeliveryOptions
from anaxis.delivery.ready import Ready
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages.model import Profile
from anaxis.standin.arrival import differences
from anaxis.standin.package import Seen, open_as_package

# Of such files some readers take the key beside a frame, and some what lies at the frame's exact time: both are proved.
_SINGLE_PRECISION_TIMES = (".glb", ".gltf")


@dataclass(frozen=True, eq=False)
class Delivered:
    """Files written for a profile, with their proof; ``seen`` is what the stand-in saw, of the ``node`` of that name. With
    ``render`` it is the camera of one that is larger than its plate."""

    outgoing: Outgoing
    files: list[Path]
    seen: Seen
    proof: Proof
    options: DeliveryOptions = USUAL
    reduced: Reduced | None = None
    node: str = ""
    render: Overscan | None = None


def proved(
    camera: ShotCamera, ready: Ready, files: list[Path], node: str | None, profile: Profile, options: DeliveryOptions
) -> Delivered:
    intended, sent, meant = ready.intended, ready.sent, ready.meant

    def opened(frames: Floats, between_keys: bool = False) -> Seen:
        typed = sent.track.lens.values_at(0)
        return open_as_package(
            files[0], profile, ready.outgoing.image, frames, sent.track.rate, node, typed, sent.zero_frame, between_keys
        )

    seen = opened(intended)
    image, fit, marks = meant.picture.image, meant.picture.fit, meant.landmarks.shown()
    sees = projection_of(meant.track, image, fit)
    proof = prove(meant.track, sees, seen.projection, marks.position_m)
    if files[0].suffix in _SINGLE_PRECISION_TIMES:
        other = prove(meant.track, sees, opened(intended, between_keys=True).projection, marks.position_m)
        proof = proof_of(proof.frames, np.maximum(proof.deviation_px, other.deviation_px), proof.test_points)
    proof = _with_plate(proof, ready, sees, seen.projection)
    still = is_still(sent.track)
    there = arrived_frames(seen.own_frames, intended, ready.reduced is not None, still)
    proof = replace(proof, missing=meant.track.frames[~there], differences=differences(ready.outgoing, sent, seen))
    if options.between > 1:
        proof = _with_between(proof, meant, intended, opened, options.between)
    if len(meant.track) != len(camera.track):
        proof, seen = _folded(proof, seen, camera.track.frames)
    if meant.render is not None:
        # What is drawn and kept is in the plate's pixels, which the render has too.
        seen = replace(seen, projection=seen.projection.in_plate(meant.render))
    return Delivered(ready.outgoing, files, seen, proof, options, ready.reduced, node or "", meant.render)


def _with_plate(proof: Proof, ready: Ready, meant: Projection, arrived: Projection) -> Proof:
    """The worst in the plate as shot: what both cameras see, distorted as their renders will be."""
    camera = ready.of_plate
    bend = bend_of(camera.track, camera.picture.image, camera.picture.fit, ready.meant.render)
    if bend is None:
        return proof
    here, there = (replace(p, image=camera.picture.image, bend=bend) for p in (meant, arrived))
    found = prove(camera.track, here, there, camera.landmarks.shown().position_m)
    return replace(proof, plate_px=found.max_px, plate_frame=found.worst_frame)


def _with_between(
    proof: Proof, meant: ShotCamera, intended: Floats, opened: Callable[[Floats], Seen], count: int
) -> Proof:
    """The worst deviation at ``count`` places a frame, where no cut lies between."""
    track = meant.track
    at = places_between(track, count)
    if not len(at):
        return proof
    there = opened(at + (intended[0] - track.frames[0]))
    drawn = sampled(track, at)
    found = prove(
        drawn,
        projection_of(drawn, meant.picture.image, meant.picture.fit),
        there.projection,
        landmarks_at(track, meant.landmarks.shown(), at).position_m,
    )
    return replace(proof, between_px=found.max_px, between_frame=found.worst_frame)


def _folded(proof: Proof, seen: Seen, frames: Floats) -> tuple[Proof, Seen]:
    """Samples between frames counted to the frame they lie nearest to."""

    def of_frame(samples: Floats) -> Ints:  # half way between two, the earlier
        return nearest_places(frames, samples - 1e-9)

    at = of_frame(proof.frames)
    deviation = np.zeros(len(frames))
    np.maximum.at(deviation, at, proof.deviation_px)
    folded = proof_of(frames, deviation, proof.test_points)
    missing = np.unique(frames[of_frame(proof.missing)]) if len(proof.missing) else proof.missing
    folded = replace(
        folded,
        missing=missing,
        differences=proof.differences,
        between_px=proof.between_px,
        between_frame=proof.between_frame,
        plate_px=proof.plate_px,
        plate_frame=proof.plate_frame,
    )
    whole = np.searchsorted(proof.frames, frames)
    return folded, replace(
        seen,
        frames=seen.frames[whole],
        projection=seen.projection.select_frames(whole),
        track=seen.track.select_frames(whole),
    )
