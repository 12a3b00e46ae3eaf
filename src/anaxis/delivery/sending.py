"""Outbound: a camera made ready for a package, written, and proved by opening the file again as that package would."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, lens_moves
from anaxis.core.checks import is_moving
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import cuts_of
from anaxis.core.motion.edits import renumbered
from anaxis.core.motion.placement import Similarity, no_placement
from anaxis.core.motion.reduce import Progress, Reduced, part_of, reduce, rekeyed, require_tolerance
from anaxis.core.motion.resample import landmarks_at, sampled
from anaxis.core.outgoing import Outgoing, make_outgoing
from anaxis.core.proof.proof import Proof, proof_of, prove
from anaxis.core.scene.landmarks import Landmarks, unique_name
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import MAX_FRAMES, format_frame, nearest_places, require_frame
from anaxis.core.typing import Floats, Ints
from anaxis.delivery.limits import limits_of
from anaxis.formats import has_nodes, key_rule_of, write_files
from anaxis.formats.file_axes import file_axes
from anaxis.formats.file_time import zero_frame_of
from anaxis.formats.nodes import node_names
from anaxis.packages.habit import Outbound
from anaxis.packages.habits import HABITS, compensated
from anaxis.packages.model import Profile
from anaxis.standin.arrival import arrived_frames, differences
from anaxis.standin.package import Seen, open_as_package

MAX_SAMPLES = 64
# Tolerances tried in turn, as shares of the one asked for: what a file's own precision costs must fit in beside the keys.
_TIGHTER = (1.0, 0.85, 0.6, 0.3)


@dataclass(frozen=True)
class Options:
    """What a receiver gets beside the camera as it is kept.

    ``reduce_px``: only the keys that keep the picture within so many pixels. ``first``: the number of the
    first frame there, ours where None. ``under_root``: below a root that carries the placement. ``samples`` a
    frame, spread from ``shutter_open`` to ``shutter_close`` in frames from it, where more than one.
    ``between``: the picture is also compared at so many places a frame.
    """

    reduce_px: float | None = None
    first: float | None = None
    under_root: bool = False
    samples: int = 1
    shutter_open: float = -0.25
    shutter_close: float = 0.25
    between: int = 1

    def __post_init__(self) -> None:
        if self.reduce_px is not None:
            require_tolerance(self.reduce_px)
        if not 1 <= self.samples <= MAX_SAMPLES or not 1 <= self.between <= MAX_SAMPLES:
            raise BadInput(f"{max(self.samples, self.between)} samples a frame cannot be: choose 1 to {MAX_SAMPLES}.")
        if self.samples > 1 and self.reduce_px is not None:
            raise BadInput("Few keys and several samples a frame ask for opposite things: leave one of them out.")
        if not -1 < self.shutter_open < self.shutter_close < 1:
            raise BadInput(
                f"A shutter from {self.shutter_open:g} to {self.shutter_close:g} frames cannot be: it opens before it "
                "closes, less than a frame away from its own."
            )


@dataclass(frozen=True, eq=False)
class Leaving:
    """A camera that goes out: its picture, the placement that a root above it would carry, the set's lines (s, 2, 3).

    ``finer`` is the same camera on the source's own samples between frames, where it has such and they were asked for;
    ``has_finer`` says whether the source has any.
    """

    track: Track
    landmarks: Landmarks
    picture: Picture
    placement: Similarity = field(default_factory=no_placement)
    lines_m: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))
    finer: Track | None = None
    has_finer: bool = False


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
            f"{' Many packages drop what lies before frame 0.' if track.frames[0] < 0 <= first else ''}"
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
    options = from_zero_up(options, cameras, profile)
    own = [_along(options, cameras[0], c) for c in cameras]
    path = stem or file_stem(cameras[0].track.name, profile.key)
    done: list[Delivered] = []
    for share in _TIGHTER if options.reduce_px is not None else (1.0,):
        ready = [
            made_ready(c, profile, format_key, o, part_of(progress, i, len(cameras)), share)
            for i, (c, o) in enumerate(zip(cameras, own, strict=True))
        ]
        files = write_files(format_key, [r.sent for r in ready], folder, path)
        names = node_names([r.sent.track.name for r in ready])
        named = names if has_nodes(format_key) else [None] * len(ready)
        done = [
            _proved(camera, one, files, name, profile, ways)
            for camera, one, name, ways in zip(cameras, ready, named, own, strict=True)
        ]
        # The tolerance holds in the file as written; what more keys cannot mend is no reason for more keys.
        if all(_kept(d, share) for d in done):
            break
    return done


def _kept(done: Delivered, share: float) -> bool:
    """Whether fewer keys cost what was asked for at most, in the file as it arrives, or cost nothing of what is off."""
    asked, reduced = done.options.reduce_px, done.reduced
    if asked is None or reduced is None or done.proof.max_px <= asked:
        return True
    return done.proof.max_px - float(reduced.deviation_px.max()) > asked


class Sent(NamedTuple):
    """Several cameras in several formats: for each camera what was delivered, by format; formats ``refused``, and why."""

    done: list[dict[str, Delivered]]
    refused: dict[str, str]


def deliver_in_formats(
    cameras: Sequence[Leaving],
    profile: Profile,
    formats: Sequence[str],
    folder: Path,
    options: Options = Options(),
    together: str = "",
    progress: Progress = lambda share: None,
    shot: str = "",
) -> Sent:
    """Several cameras in several formats. A format that one of them cannot go out in stops no other.

    With ``together``, the name of a file that holds them all, for formats that can; else a file each. Raises
    BadInput where every format is refused.
    """
    out: list[dict[str, Delivered]] = [{} for _ in cameras]
    refused: dict[str, str] = {}
    for i, key in enumerate(formats):
        share = part_of(progress, i, len(formats))
        try:
            done = _in_format(cameras, profile, key, folder, options, together, share, shot)
        except BadInput as error:
            refused[key] = error.sentence
            continue
        for of_one, delivered in zip(out, done, strict=True):
            of_one[key] = delivered
    if len(refused) == len(formats):
        raise BadInput(next(iter(refused.values())))
    return Sent(out, refused)


def _in_format(
    cameras: Sequence[Leaving], profile: Profile, key: str, folder: Path, options: Options, together: str, progress: Progress, shot: str,
) -> list[Delivered]:  # fmt: skip
    if together and len(cameras) > 1 and has_nodes(key):
        return deliver_all(cameras, profile, key, folder, options, progress, file_stem(together, profile.key, shot))
    done: list[Delivered] = []
    stems: set[str] = set()
    options = from_zero_up(options, cameras, profile)
    for k, camera in enumerate(cameras):
        part = part_of(progress, k, len(cameras))
        stem = unique_name(file_stem(camera.track.name, profile.key, shot), stems)
        done += deliver_all([camera], profile, key, folder, _along(options, cameras[0], camera), part, stem)
        part(1.0)
    return done


def from_zero_up(options: Options, cameras: Sequence[Leaving], profile: Profile) -> Options:
    """Many packages drop what lies before frame 0: a camera that begins there goes out from the package's own first
    frame on, unless another is asked for; several keep step."""
    first = float(cameras[0].track.frames[0])
    earliest = min(float(c.track.frames[0]) for c in cameras)
    if options.first is not None or earliest >= 0:
        return options
    return replace(options, first=profile.time.first_frame + first - earliest)


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
    """A camera before it is written: as it is ``meant`` (with its samples between frames), as it is meant to arrive
    on the frames ``intended``, and as it is ``sent``."""

    meant: Leaving
    outgoing: Outgoing
    sent: Outgoing
    intended: Floats
    reduced: Reduced | None


def made_ready(
    camera: Leaving, profile: Profile, format_key: str, options: Options, progress: Progress, tighter: float = 1.0
) -> Ready:
    """``tighter`` is a share of the tolerance for fewer keys, for formats that cost something themselves."""
    camera, said = with_samples(camera, options)
    outgoing = prepare(camera.track, camera.landmarks, camera.picture, profile, options.first)
    outgoing = replace(outgoing, notes=(*outgoing.notes, *said))
    reduced = None
    if options.under_root:
        outgoing = rooted(outgoing, camera.placement, profile, format_key)
    if options.reduce_px is not None:
        reduced = reduce_keys(outgoing, format_key, options.reduce_px * tighter, progress)
        drawn = reduced.track if outgoing.root is None else outgoing.root.track(reduced.track)
        outgoing = replace(outgoing, track=drawn, keys=reduced.keys)
    sent, intended = compensate(outgoing, profile, format_key)
    zero, said_zero = zero_frame_of(format_key, sent.track.frames, sent.track.rate, profile.time.clips_from_zero)
    limits = limits_of(format_key, replace(outgoing, zero_frame=zero), profile.lens.reads_gltf_zoom)
    notes = (*limits, *sent.notes, *([said_zero] if said_zero else []))
    sent = replace(sent, zero_frame=zero, notes=notes)
    outgoing = replace(outgoing, track=replace(outgoing.track, frames=intended), zero_frame=zero, notes=notes)
    return Ready(camera, outgoing, sent, intended, reduced)


def with_samples(camera: Leaving, options: Options) -> tuple[Leaving, tuple[str, ...]]:
    """The camera with samples between its frames, as many as asked for, and where they are from."""
    track = camera.track
    if options.samples == 1:
        if camera.has_finer and (track.frames == np.round(track.frames)).all():
            return camera, (
                "The source has samples between frames, for motion blur, and this file whole frames only: ask for "
                "several samples a frame to hand them over.",
            )
        return camera, ()
    offsets = np.linspace(options.shutter_open, options.shutter_close, options.samples)
    at = np.unique(np.round(np.concatenate([track.frames, (track.frames[:, None] + offsets).ravel()]), 9))
    at = at[(at >= track.frames[0]) & (at <= track.frames[-1])]
    if len(at) > MAX_FRAMES:
        raise BadInput(f"That would be {len(at)} samples; at most {MAX_FRAMES} are written: ask for fewer a frame.")
    finer = camera.finer
    where = "those of the source" if finer is not None else "drawn between the whole frames, for the source has none"
    said = f"{options.samples} samples a frame, from {options.shutter_open:g} to {options.shutter_close:g} frames around it: {where}."
    moved = sampled(track if finer is None else finer, at)
    marks = landmarks_at(track, camera.landmarks, at)
    return replace(camera, track=replace(moved, name=track.name), landmarks=marks), (said,)


def _proved(
    camera: Leaving, ready: Ready, files: list[Path], node: str | None, profile: Profile, options: Options
) -> Delivered:
    intended, sent, meant = ready.intended, ready.sent, ready.meant

    def opened(frames: Floats) -> Seen:
        typed = sent.track.lens.values_at(0)
        return open_as_package(
            files[0], profile, ready.outgoing.image, frames, sent.track.rate, node, typed, sent.zero_frame
        )

    seen = opened(intended)
    image, fit, marks = meant.picture.image, meant.picture.fit, meant.landmarks.shown()
    proof = prove(meant.track, projection_of(meant.track, image, fit), seen.projection, marks.position_m)
    still = not is_moving(sent.track) and not lens_moves(sent.track)
    there = arrived_frames(seen.own_frames, intended, ready.reduced is not None, still)
    proof = replace(proof, missing=meant.track.frames[~there], differences=differences(ready.outgoing, sent, seen))
    if options.between > 1:
        proof = _with_between(proof, meant, intended, opened, options.between)
    if len(meant.track) != len(camera.track):
        proof, seen = _folded(proof, seen, camera.track.frames)
    return Delivered(ready.outgoing, files, seen, proof, options, ready.reduced, node or "")


def _with_between(
    proof: Proof, meant: Leaving, intended: Floats, opened: Callable[[Floats], Seen], count: int
) -> Proof:
    """The worst deviation at ``count`` places a frame, where no cut lies between."""
    track = meant.track
    steps = np.setdiff1d(np.arange(len(track) - 1), cuts_of(track) - 1)
    shares = np.arange(1, count) / count
    if not len(steps):
        return proof
    span = np.diff(track.frames)[steps]
    at = (track.frames[steps][:, None] + span[:, None] * shares).ravel()
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
    )
    whole = np.searchsorted(proof.frames, frames)
    return folded, replace(
        seen, frames=seen.frames[whole], projection=seen.projection.take(whole), track=seen.track.take(whole)
    )


def rooted(outgoing: Outgoing, placement: Similarity, profile: Profile, format_key: str) -> Outgoing:
    """The camera below a root that carries its placement's turn and shift, where format and package allow one."""
    codes = {code for code, _ in profile.active_habits}
    broken = next((HABITS[c] for c in codes if HABITS[c].on_tree), None)
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
    before = Outbound(
        outgoing.track, outgoing.track.frames, outgoing.convention, axes.convention, outgoing.image, outgoing.fit, axes.up, axes.unit_m,
        outgoing.landmarks.position_m,
    )  # fmt: skip
    done = compensated(before, profile.active_habits)
    marks = replace(outgoing.landmarks, position_m=done.marks_m)
    changed = replace(outgoing, track=done.track, landmarks=marks, notes=(*outgoing.notes, *done.notes, *done.cannot))
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
    return reduce(outgoing.below_root, outgoing.image, outgoing.fit, marks.position_m, rule, tolerance_px, progress)


def file_stem(camera_name: str, profile_key: str, shot: str = "") -> str:
    """The name of a delivered file: shot, camera and package, with nothing a file system trips over.

    A name that two of them share stands there once.
    """
    parts = [p for p in (shot, camera_name, profile_key) if p]
    if len(parts) == 3 and (
        shot == camera_name or camera_name.startswith(f"{shot}_") or camera_name.startswith(f"{shot}.")
    ):
        parts = parts[1:]
    safe = re.sub(r"[^A-Za-z0-9._-]+", "_", ".".join(parts)).strip("._")
    return safe[:120] or "camera"
