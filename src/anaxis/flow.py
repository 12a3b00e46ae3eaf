"""The few functions that pages, command line and jobs all call.

A camera flows one way: file, scene, track, outgoing camera, files, stand-in, proof.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from anaxis.core.bake import Baked, bake_camera, camera_range, node_positions_m, world_matrices
from anaxis.core.checks import is_lens_moving, is_moving, run_checks
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.lens import Image
from anaxis.core.outgoing import NO_LANDMARKS, Landmarks, Outgoing, make_outgoing, unique_name
from anaxis.core.proof import Proof, prove
from anaxis.core.scene import Node, Scene
from anaxis.core.timing import frame_range
from anaxis.core.track import Track, require_usable
from anaxis.core.typing import Floats
from anaxis.formats import write_files
from anaxis.profiles.model import Profile
from anaxis.profiles.standin import Seen, open_as_package

DEFAULT_IMAGE = Image(1920, 1080)
DEFAULT_SOURCE_FIT = "width"


@dataclass(frozen=True, eq=False)
class CameraReport:
    """What intake says about one camera; ``baked`` is None where it could not be flattened."""

    path: str
    name: str
    first_frame: float
    last_frame: float
    samples: int
    animated: bool
    lens_animated: bool
    findings: list[Finding]
    baked: Baked | None

    @property
    def usable(self) -> bool:
        return self.baked is not None and all(f.severity != "error" for f in self.findings)


@dataclass(frozen=True, eq=False)
class Picture:
    """How the source makes its picture, and which of that is a guess."""

    image: Image
    fit: str
    image_guessed: bool
    fit_guessed: bool


@dataclass(frozen=True, eq=False)
class Delivered:
    """Files written for a profile, with their proof; ``seen`` is what the stand-in saw."""

    outgoing: Outgoing
    files: list[Path]
    seen: Seen
    proof: Proof


def examine(scene: Scene) -> list[CameraReport]:
    """Every camera of a scene, flattened and checked.

    Raises BadInput where the file holds no camera.
    """
    if not scene.cameras:
        outside = next((f for f in scene.findings if f.code == "outside_reference"), None)
        if outside:
            raise BadInput(f"{scene.name} holds no camera of its own. {outside.message} {outside.remedy}")
        scene.camera()  # raises the sentence for it
    return [_examine_one(scene, node.path) for node in scene.cameras]


def _examine_one(scene: Scene, path: str) -> CameraReport:
    name = path.rsplit("/", 1)[-1]
    try:
        baked = bake_camera(scene, path)
    except BadInput as error:
        finding = Finding("cannot_flatten", "error", error.sentence, "Repair the source and export again.")
        first, last = camera_range(scene, path)
        return CameraReport(path, name, first, last, 0, False, False, [finding], None)
    frames = baked.track.frames
    return CameraReport(
        path=path,
        name=name,
        first_frame=float(frames[0]),
        last_frame=float(frames[-1]),
        samples=max(1, len(baked.keys)),
        animated=is_moving(baked),
        lens_animated=is_lens_moving(baked),
        findings=run_checks(scene, baked),
        baked=baked,
    )


def refuse_unusable(scene: Scene, reports: list[CameraReport]) -> None:
    """Raise BadInput where not one camera of a file can be used, with the first reason."""
    if not any(r.usable for r in reports):
        first = next(f for f in reports[0].findings if f.severity == "error")
        raise BadInput(first.message.rstrip(".") + ": " + first.remedy[:1].lower() + first.remedy[1:])


def take_camera(scene: Scene, path: str | None, frames: tuple[float, float] | None = None) -> Baked:
    """Flatten one camera for use, over its range or over ``frames`` (first, last).

    Raises BadInput where a number on those frames cannot be used.
    """
    node = scene.camera(path)
    refused = [f for f in scene.findings if f.severity == "error" and f.node in ("", node.path)]
    if refused:
        raise BadInput(f"{scene.name}: {refused[0].message.rstrip('.')}. {refused[0].remedy}")
    wanted = None
    if frames is not None:
        first, last = camera_range(scene, node.path)
        whole = frame_range(first, last, f"{scene.name}, camera {node.path},")
        wanted = whole[(whole >= frames[0]) & (whole <= frames[1])]
        if not len(wanted):
            raise BadInput(
                f"{scene.name}, camera {node.path}, has no frames from {frames[0]:g} to {frames[1]:g}: it "
                f"runs from {whole[0]:g} to {whole[-1]:g}."
            )
    baked = bake_camera(scene, node.path, wanted)
    require_usable(baked.track, f"{scene.name}, {node.path},")
    return baked


def picture_of(scene: Scene, image: Image | None, fit: str | None) -> Picture:
    """The source's picture: what was asked for, else what the file says, else a visible guess."""
    return Picture(
        image=image or scene.image or DEFAULT_IMAGE,
        fit=fit or scene.source_fit or DEFAULT_SOURCE_FIT,
        image_guessed=image is None and scene.image is None,
        fit_guessed=fit is None and scene.source_fit is None,
    )


def landmarks_of(scene: Scene, frames: Floats) -> Landmarks:
    """The scene's landmarks on the given frames; those with a position that is no number are left out."""
    nodes = [n for n in scene.nodes if n.kind == "landmark"]
    # Without marked places, the pieces of the set are places enough: the middle of each.
    if nodes:
        marks = [(n.name, node_positions_m(scene, n.path, frames)) for n in nodes]
    else:
        marks = [(n.name, np.mean(s, axis=(0, 1))[None]) for n, s in _set_pieces(scene, frames)]
    marks = [(name, at) for name, at in marks if np.isfinite(at).all()]
    if not marks:
        return NO_LANDMARKS
    count = max(len(at) for _, at in marks)
    taken: set[str] = set()
    names = tuple(unique_name(name, taken) for name, _ in marks)
    stacked = np.stack([np.broadcast_to(at, (count, 3)) for _, at in marks], axis=1)
    return Landmarks(names, np.array(stacked))


def set_segments_m(scene: Scene, frame: float) -> Floats:
    """The set's lines in canonical space as they stand at one frame, (s, 2, 3) metres."""
    pieces = [s for _, s in _set_pieces(scene, np.array([frame]))]
    return np.concatenate(pieces) if pieces else np.zeros((0, 2, 3))


def _set_pieces(scene: Scene, frames: Floats) -> list[tuple[Node, Floats]]:
    pieces = []
    for node in scene.nodes:
        if node.kind == "set" and node.segments is not None:
            world = world_matrices(scene, node.path, frames[:1])[0]
            placed = node.segments @ world[:3, :3].T + world[:3, 3]
            segments = scene.convention.position_to_canonical(placed)
            if np.isfinite(segments).all():
                pieces.append((node, segments))
    return pieces


def prepare(track: Track, landmarks: Landmarks, picture: Picture, profile: Profile) -> Outgoing:
    """The camera as it goes to a package."""
    return make_outgoing(track, profile.convention, picture.image, picture.fit, profile.lens.fit, landmarks)


def deliver(
    track: Track,
    landmarks: Landmarks,
    picture: Picture,
    profile: Profile,
    format_key: str,
    folder: Path,
) -> Delivered:
    """Write a camera for a package and prove it by opening the file again as that package would.

    Raises BadInput for a format that is not written.
    """
    outgoing = prepare(track, landmarks, picture, profile)
    files = write_files(format_key, outgoing, folder, file_stem(track.name, profile.key))
    seen = open_as_package(files[0], profile, outgoing.image)
    if not np.array_equal(seen.frames, track.frames):
        raise BadInput(
            f"{files[0].name} came back with {len(seen.frames)} frames instead of {len(track)}: the camera "
            "needs a sample on every whole frame to go out in this format."
        )
    proof = prove(track, picture.image, picture.fit, seen.pixel_matrices, landmarks.position_m)
    return Delivered(outgoing, files, seen, proof)


def file_stem(camera_name: str, profile_key: str) -> str:
    """The name of a delivered file: camera and package, with nothing a file system trips over."""
    safe = re.sub(r"[^A-Za-z0-9._-]+", "_", f"{camera_name}.{profile_key}").strip("._")
    return safe[:120] or "camera"
