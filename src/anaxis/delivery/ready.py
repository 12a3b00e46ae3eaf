"""A camera made ready for a package: numbered, sampled, compensated, rooted, with few keys."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from anaxis.core.bounds import MAX_FRAMES, require_frame
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.image_plane import image_plane, said_of_distance
from anaxis.core.motion.edits import renumbered
from anaxis.core.motion.keys import rekeyed
from anaxis.core.motion.placement import Similarity
from anaxis.core.motion.reduce import Reduced, reduce
from anaxis.core.motion.resample import landmarks_at, sampled
from anaxis.core.outgoing import Outgoing, make_outgoing
from anaxis.core.progress import Progress, no_progress
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats
from anaxis.delivery.limits import limits_of
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.overscan import with_overscan
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats import format_of
from anaxis.formats.file_axes import file_axes
from anaxis.formats.file_time import zero_frame_of
from anaxis.packages.habit import Outbound
from anaxis.packages.habits import HABITS, compensated
from anaxis.packages.habits.numbers import SNAP
from anaxis.packages.model import Profile

# How far ahead of a cut, in frames, what follows begins in files that hold curves; its shot ends twice as far ahead.
BEFORE_CUT = 0.01


def prepare(
    track: Track, landmarks: Landmarks, picture: Picture, profile: Profile, first: float | None = None
) -> Outgoing:
    """The camera as it goes to a package, its first frame numbered ``first`` there where that is given."""
    shown, note = landmarks.shown(), ""
    if first is not None and first != track.frames[0]:
        require_frame(first)
        moved = renumbered(track, first)
        note = (
            f"Frame {format_frame(track.frames[0])} is frame {format_frame(moved.frames[0])} in the package: the range "
            f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])} is delivered as "
            f"{format_frame(moved.frames[0])} to {format_frame(moved.frames[-1])}."
            f"{' Many packages drop what lies before frame 0.' if track.frames[0] < 0 <= first else ''}"
        )
        track = moved
    made = make_outgoing(track, profile.convention, picture.image, picture.fit, profile.lens.fit, shown)
    return replace(made, notes=(*made.notes, *([note] if note else [])), layout=profile.layout)


@dataclass(frozen=True, eq=False)
class Ready:
    """A camera before it is written: as it is ``meant`` (with its samples between frames), as it is meant to arrive
    on the frames ``intended``, and as it is ``sent``; ``of_plate`` is the one meant without its overscan."""

    of_plate: ShotCamera
    meant: ShotCamera
    outgoing: Outgoing
    sent: Outgoing
    intended: Floats
    reduced: Reduced | None


def made_ready(
    camera: ShotCamera,
    profile: Profile,
    format_key: str,
    options: DeliveryOptions,
    progress: Progress,
    tighter: float = 1.0,
) -> Ready:
    """``tighter`` is a share of the tolerance for fewer keys, for formats that cost something themselves."""
    camera, said = with_samples(camera, options)
    if options.samples == 1 and format_of(format_key).several:
        camera, held = with_cuts_held(camera, profile)
        said = (*said, *held)
    of_plate = camera
    camera, larger = with_overscan(camera, options)
    said = (*said, *larger)
    outgoing = prepare(camera.track, camera.landmarks, camera.picture, profile, options.first)
    outgoing = replace(outgoing, notes=(*outgoing.notes, *said))
    if options.plane_m is not None:
        outgoing = with_plane(outgoing, camera, format_key, options)
    reduced = None
    if options.under_root:
        outgoing = rooted(outgoing, camera.placement, profile, format_key)
    if options.reduce_px is not None:
        reduced = reduce_keys(outgoing, format_key, options.reduce_px * tighter, progress)
        drawn = reduced.track if outgoing.root is None else outgoing.root.track(reduced.track)
        outgoing = replace(outgoing, track=drawn, keys=reduced.keys)
    sent, intended = compensate(outgoing, profile, format_key)
    zero, said_zero = zero_frame_of(
        format_of(format_key), sent.track.frames, sent.track.rate, profile.time.clips_from_zero
    )
    limits = limits_of(
        format_key, _on_whole_frames(replace(outgoing, zero_frame=zero), options), profile.lens.reads_gltf_zoom
    )
    notes = (*limits, *sent.notes, *([said_zero] if said_zero else []))
    sent = replace(sent, zero_frame=zero, notes=notes)
    outgoing = replace(outgoing, track=replace(outgoing.track, frames=intended), zero_frame=zero, notes=notes)
    return Ready(of_plate, camera, outgoing, sent, intended, reduced)


def _on_whole_frames(outgoing: Outgoing, options: DeliveryOptions) -> Outgoing:
    """The camera on the frames that its picture is owed on, without what only keeps cuts apart."""
    frames = outgoing.track.frames
    whole = np.flatnonzero(np.abs(frames - np.round(frames)) < BEFORE_CUT / 2)
    if options.samples > 1 or len(whole) in (0, len(frames)):
        return outgoing
    return replace(outgoing, track=outgoing.track.select_frames(whole), landmarks=outgoing.landmarks.at_frames(whole))


def with_samples(camera: ShotCamera, options: DeliveryOptions) -> tuple[ShotCamera, tuple[str, ...]]:
    """The camera with samples between its frames, as many as asked for, and where they are from."""
    track = camera.track
    if options.samples == 1:
        if camera.has_finer and (track.frames == np.round(track.frames)).all():
            return camera, (
                "The source has samples between frames for motion blur, but this file has whole frames only: choose several samples for each frame to deliver them.",
            )
        return camera, ()
    offsets = np.linspace(options.shutter_open, options.shutter_close, options.samples)
    at = np.unique(np.round(np.concatenate([track.frames, (track.frames[:, None] + offsets).ravel()]), 9))
    at = at[(at >= track.frames[0]) & (at <= track.frames[-1])]
    if len(at) > MAX_FRAMES:
        raise BadInput(f"That would be {len(at)} samples; at most {MAX_FRAMES} are possible: use fewer for each frame.")
    finer = camera.finer
    where = "from the source" if finer is not None else "interpolated between whole frames, since the source has none"
    said = f"{options.samples} samples for each frame, from {options.shutter_open:g} to {options.shutter_close:g} frames around it: {where}."
    moved = sampled(track if finer is None else finer, at)
    if finer is not None and track.distortion is not None:  # given for whole frames
        moved = replace(moved, distortion=sampled(track, at).distortion)
    marks = landmarks_at(track, camera.landmarks, at)
    return replace(camera, track=replace(moved, name=track.name), landmarks=marks), (said,)


def with_cuts_held(camera: ShotCamera, profile: Profile) -> tuple[ShotCamera, tuple[str, ...]]:
    """The camera with two samples more just before every cut that is marked, where files hold curves: whoever draws between
    samples then draws each shot to its end, and nothing between two shots."""
    track = camera.track
    if track.marked is None or not (track.marked > 0).any() or (track.frames != np.round(track.frames)).any():
        return camera, ()
    cuts = track.frames[track.marked > 0]
    if any(code == SNAP.code for code, _ in profile.active_habits):
        return camera, (
            f"The package moves samples to whole frames, so none is before the {len(cuts)} cuts: motion blur at a cut mixes two shots.",
        )
    early, late = cuts - 2 * BEFORE_CUT, cuts - BEFORE_CUT
    at = np.union1d(track.frames, np.concatenate([early, late]))
    moved, marks = sampled(track, at), landmarks_at(track, camera.landmarks, at)
    # The one next to the cut is what follows it already: a reader whose clock is a little early sees it whole.
    place = np.searchsorted(at, late)
    index = np.arange(len(at))
    index[place] += 1
    held = replace(moved.select_frames(index), name=track.name, frames=at)
    told = np.array(held.marked) if held.marked is not None else np.zeros(len(at), dtype=np.int64)
    told[place], told[place + 1] = 1, 0
    said = (
        f"Each of the {len(cuts)} cuts has two extra samples before it, {2 * BEFORE_CUT:g} and {BEFORE_CUT:g} of a frame ahead: the end of one shot and the beginning of the next, so that nothing is interpolated across the cut."
        ""
    )
    return replace(camera, track=replace(held, marked=told), landmarks=marks.at_frames(index)), (said,)


def with_plane(outgoing: Outgoing, camera: ShotCamera, format_key: str, options: DeliveryOptions) -> Outgoing:
    """The camera with an image plane that fills its picture, where the format has nodes, and what is to be said of it."""
    assert options.plane_m is not None
    plane = image_plane(
        camera.track, camera.picture.image, camera.picture.fit, options.plane_m, options.plane_opacity, camera.pictures
    )
    said = list(said_of_distance(plane, camera.track, camera.landmarks.shown(), camera.lines_m))
    bent = camera.track.distortion is not None
    if not format_of(format_key).several:
        said.insert(
            0,
            "The file has no image plane, since this format has no nodes. The transfer sheet states its distance and size.",
        )
        return replace(outgoing, notes=(*outgoing.notes, *said))
    said.insert(
        0,
        f"An image plane is {options.plane_m:g} m from the camera and fills its picture on every frame"
        f"{'; the undistorted plate belongs on it' if bent else ''}.",
    )
    return replace(outgoing, plane=plane, notes=(*outgoing.notes, *said))


def rooted(outgoing: Outgoing, placement: Similarity, profile: Profile, format_key: str) -> Outgoing:
    """The camera below a root that carries its placement's turn and shift, where format and package allow one."""
    codes = {code for code, _ in profile.active_habits}
    broken = next((kind for code, kind in HABITS.items() if kind.on_tree and code in codes), None)
    if broken is not None:
        why = f"The camera has no root node: the package {broken.says({})}, so a root would be lost."
    elif not format_of(format_key).several:
        why = "The camera has no root node, since this format has no nodes: it is in world space."
    else:
        scaled = "" if placement.scale == 1 else " Its scale stays in the values of the camera."
        why = f"The camera has a root node with its placement: move the root node to move everything.{scaled}"
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


def reduce_keys(outgoing: Outgoing, format_key: str, tolerance_px: float, progress: Progress = no_progress) -> Reduced:
    """The few keys with which a format's readers draw an outgoing camera within a tolerance. Raises BadInput."""
    rule = format_of(format_key).writer().key_rule(outgoing.convention)
    marks = outgoing.landmarks
    if outgoing.root is not None:
        marks = outgoing.root.inverse().landmarks(marks)
    return reduce(outgoing.below_root, outgoing.image, outgoing.fit, marks.position_m, rule, tolerance_px, progress)
