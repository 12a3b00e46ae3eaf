"""Sending: a camera made ready for a package, written, and proved by opening the file again as that package would."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from anaxis.core.edits import renumbered
from anaxis.core.errors import BadInput
from anaxis.core.landmarks import Landmarks, unique_name
from anaxis.core.outgoing import Outgoing, make_outgoing
from anaxis.core.placement import Similarity, no_placement
from anaxis.core.proof import Proof, prove
from anaxis.core.reduce import Progress, Reduced, part_of, reduce, rekeyed, require_tolerance
from anaxis.core.timing import format_frame, require_frame
from anaxis.core.track import Track
from anaxis.core.typing import Floats
from anaxis.flow import Picture
from anaxis.formats import has_nodes, key_rule_of, write_files
from anaxis.formats.file_axes import file_axes
from anaxis.formats.limits import limits_of
from anaxis.formats.nodes import node_names
from anaxis.profiles.compensation import Sending, compensated
from anaxis.profiles.habits import HABITS
from anaxis.profiles.model import Profile
from anaxis.profiles.standin import Seen, open_as_package


@dataclass(frozen=True)
class Options:
    """What a receiver gets beside the camera as it is kept.

    ``reduce_px``: only the keys that keep the picture within so many pixels. ``first``: the number of the
    first frame there, ours where None. ``under_root``: below a root that carries the placement.
    """

    reduce_px: float | None = None
    first: float | None = None
    under_root: bool = False

    def __post_init__(self) -> None:
        if self.reduce_px is not None:
            require_tolerance(self.reduce_px)


@dataclass(frozen=True, eq=False)
class Leaving:
    """A camera that goes out: its picture, the placement that a root above it would carry, the set's lines (s, 2, 3)."""

    track: Track
    landmarks: Landmarks
    picture: Picture
    placement: Similarity = field(default_factory=no_placement)
    lines_m: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))


@dataclass(frozen=True, eq=False)
class Delivered:
    """Files written for a profile, with their proof; ``seen`` is what the stand-in saw, of the ``node`` of that name."""

    outgoing: Outgoing
    files: list[Path]
    seen: Seen
    proof: Proof
    options: Options = Options()
    reduced: Reduced | None = None
    node: str = ""


def prepare(
    track: Track, landmarks: Landmarks, picture: Picture, profile: Profile, first: float | None = None
) -> Outgoing:
    """The camera as it goes to a package, its first frame numbered ``first`` there where that is given."""
    shown, note = landmarks.shown(), ""
    if first is not None and first != track.frames[0]:
        require_frame(first)
        moved = renumbered(track, first)
        note = (
            f"Frame {format_frame(track.frames[0])} here is frame {format_frame(moved.frames[0])} there: the range "
            f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])} goes out as "
            f"{format_frame(moved.frames[0])} to {format_frame(moved.frames[-1])}."
        )
        track = moved
    made = make_outgoing(track, profile.convention, picture.image, picture.fit, profile.lens.fit, shown)
    return replace(made, notes=(*made.notes, *([note] if note else [])), layout=profile.layout)


def deliver(
    track: Track,
    landmarks: Landmarks,
    picture: Picture,
    profile: Profile,
    format_key: str,
    folder: Path,
    options: Options = Options(),
    progress: Progress = lambda share: None,
) -> Delivered:
    """Write one camera for a package and prove it; see :func:`deliver_all`."""
    camera = Leaving(track, landmarks, picture)
    return deliver_all([camera], profile, format_key, folder, options, progress)[0]


def deliver_all(
    cameras: Sequence[Leaving],
    profile: Profile,
    format_key: str,
    folder: Path,
    options: Options = Options(),
    progress: Progress = lambda share: None,
    stem: str = "",
) -> list[Delivered]:
    """Write cameras into one file for a package and prove each by opening the file again as that package would.

    The file is called ``stem``, or after the first camera and the package. ``progress`` is told the share done
    of what takes long. Raises BadInput for a format that is not written, or holds no several cameras.
    """
    ready = [
        made_ready(
            camera,
            profile,
            format_key,
            _along(options, cameras[0], camera),
            part_of(progress, i, len(cameras)),
        )
        for i, camera in enumerate(cameras)
    ]
    sent = [r.sent for r in ready]
    files = write_files(format_key, sent, folder, stem or file_stem(cameras[0].track.name, profile.key))
    names = node_names([s.track.name for s in sent])
    named = names if has_nodes(format_key) else [None] * len(sent)
    return [
        _proved(camera, one, files, name, profile, options)
        for camera, one, name in zip(cameras, ready, named, strict=True)
    ]


def deliver_in_formats(
    cameras: Sequence[Leaving],
    profile: Profile,
    formats: Sequence[str],
    folder: Path,
    options: Options = Options(),
    together: str = "",
    progress: Progress = lambda share: None,
) -> list[dict[str, Delivered]]:
    """Several cameras in several formats: for each camera what was delivered, by format.

    With ``together``, the name of a file that holds them all, for formats that can; else a file each.
    """
    out: list[dict[str, Delivered]] = [{} for _ in cameras]
    for i, key in enumerate(formats):
        share = part_of(progress, i, len(formats))
        if together and len(cameras) > 1 and has_nodes(key):
            stem = file_stem(together, profile.key)
            done = deliver_all(cameras, profile, key, folder, options, share, stem)
        else:
            done, stems = [], set[str]()
            for k, camera in enumerate(cameras):
                part = part_of(share, k, len(cameras))
                stem = unique_name(file_stem(camera.track.name, profile.key), stems)
                own = _along(options, cameras[0], camera)
                done += deliver_all([camera], profile, key, folder, own, part, stem)
                part(1.0)
        for of_one, delivered in zip(out, done, strict=True):
            of_one[key] = delivered
    return out


def begins_there(options: Options, first: float, own: float) -> float:
    """The frame there at which a camera begins that begins at frame ``own`` here.

    A first frame there is that of the first camera, which begins at ``first``; the others are renumbered by as
    much, so that they keep step.
    """
    return own if options.first is None else options.first + own - first


def moved_along(options: Options, first: float, own: float) -> Options:
    """The options of a camera that begins at frame ``own`` here, where the first one begins at ``first``."""
    return options if options.first is None else replace(options, first=begins_there(options, first, own))


def _along(options: Options, first: Leaving, camera: Leaving) -> Options:
    return moved_along(options, float(first.track.frames[0]), float(camera.track.frames[0]))


@dataclass(frozen=True, eq=False)
class Ready:
    """A camera before it is written: as it is meant to arrive on the frames ``intended``, and as it is ``sent``."""

    outgoing: Outgoing
    sent: Outgoing
    intended: Floats
    reduced: Reduced | None


def made_ready(
    camera: Leaving, profile: Profile, format_key: str, options: Options, progress: Progress
) -> Ready:
    outgoing = prepare(camera.track, camera.landmarks, camera.picture, profile, options.first)
    reduced = None
    if options.under_root:
        outgoing = rooted(outgoing, camera.placement, profile, format_key)
    if options.reduce_px is not None:
        reduced = reduce_keys(outgoing, format_key, options.reduce_px, progress)
        drawn = reduced.track if outgoing.root is None else outgoing.root.track(reduced.track)
        outgoing = replace(outgoing, track=drawn, keys=reduced.keys)
    outgoing = replace(outgoing, notes=(*outgoing.notes, *limits_of(format_key, outgoing)))
    sent, intended = compensate(outgoing, profile, format_key)
    outgoing = replace(outgoing, track=replace(outgoing.track, frames=intended), notes=sent.notes)
    return Ready(outgoing, sent, intended, reduced)


def _proved(
    camera: Leaving, ready: Ready, files: list[Path], node: str | None, profile: Profile, options: Options
) -> Delivered:
    intended, sent = ready.intended, ready.sent
    asked = intended if ready.reduced is not None or profile.active_habits else None
    typed = sent.track.lens.values_at(0)
    seen = open_as_package(files[0], profile, ready.outgoing.image, asked, sent.track.rate, node, typed)
    if not (len(seen.frames) == len(intended) and np.allclose(seen.frames, intended, rtol=0, atol=1e-4)):
        raise BadInput(
            f"{files[0].name} came back with {len(seen.frames)} frames instead of {len(camera.track)}: the camera "
            "needs a sample on every whole frame to go out in this format."
        )
    image, fit = camera.picture.image, camera.picture.fit
    proof = prove(camera.track, image, fit, seen.pixel_matrices, camera.landmarks.shown().position_m)
    return Delivered(ready.outgoing, files, seen, proof, options, ready.reduced, node or "")


def rooted(outgoing: Outgoing, placement: Similarity, profile: Profile, format_key: str) -> Outgoing:
    """The camera below a root that carries its placement's turn and shift, where format and package allow one."""
    codes = {code for code, _ in profile.active_habits}
    broken = next((HABITS[c] for c in ("parents", "twice") if c in codes), None)
    if broken is not None:
        why = f"There is no root above the camera: the package {broken.says({})}, so a root would not arrive."
    elif not has_nodes(format_key):
        why = "There is no root above the camera: this format has no nodes, and holds it in world space."
    else:
        scaled = "" if placement.scale == 1 else " Its scale stays in the camera's own numbers."
        why = f"The camera stands below a root that carries its placement: move the root there, and all of it moves.{scaled}"
        outgoing = replace(outgoing, root=placement.rigid())
    return replace(outgoing, notes=(*outgoing.notes, why))


def compensate(outgoing: Outgoing, profile: Profile, format_key: str) -> tuple[Outgoing, Floats]:
    """The camera to write so that it is right after the package's habits, and the frames it is meant to have there."""
    if not profile.active_habits:
        return outgoing, outgoing.track.frames
    axes = file_axes(format_key, outgoing.convention)
    before = Sending(
        outgoing.track, outgoing.track.frames, outgoing.convention, axes.convention, outgoing.image, outgoing.fit, axes.up, axes.unit_m,
        outgoing.landmarks.position_m,
    )  # fmt: skip
    done = compensated(before, profile.active_habits)
    marks = replace(outgoing.landmarks, position_m=done.marks_m)
    changed = replace(
        outgoing, track=done.track, landmarks=marks, notes=(*outgoing.notes, *done.notes, *done.cannot)
    )
    if changed.keys is not None and done.track is not outgoing.track:
        # The same frames keep their keys, in the numbers of what is written now.
        changed = replace(changed, keys=rekeyed(changed.keys, changed.below_root))
    return changed, done.intended


def reduce_keys(
    outgoing: Outgoing, format_key: str, tolerance_px: float, progress: Progress = lambda share: None
) -> Reduced:
    """The few keys with which a format's readers draw an outgoing camera within a tolerance. Raises BadInput."""
    rule = key_rule_of(format_key, outgoing.convention)
    marks = outgoing.landmarks
    if outgoing.root is not None:
        marks = outgoing.root.inverse().landmarks(marks)
    return reduce(
        outgoing.below_root, outgoing.image, outgoing.fit, marks.position_m, rule, tolerance_px, progress
    )


def file_stem(camera_name: str, profile_key: str) -> str:
    """The name of a delivered file: camera and package, with nothing a file system trips over."""
    safe = re.sub(r"[^A-Za-z0-9._-]+", "_", f"{camera_name}.{profile_key}").strip("._")
    return safe[:120] or "camera"
