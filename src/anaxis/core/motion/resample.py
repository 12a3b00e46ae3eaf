"""Another frame rate, and handles: samples where the source had none.

*Same frames*: every frame keeps its pose, the duration changes. *Same time*: the track is sampled anew, the
duration stays; the first frame keeps its number and its sample. Positions go by cubic splines, rotations by a
spline on SO(3) (scipy's RotationSpline), the lens by monotone cubics that never leave the values beside them
(Fritsch and Carlson 1980, scipy's PchipInterpolator). Nothing is drawn across a cut: a frame is on screen for its
whole length, so the motion before the cut goes on from its own side for what is left of it. A hold stays one: a
spline that ran through it would swing before the camera moves.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields, replace
from fractions import Fraction
from typing import Literal

import numpy as np
import scipy

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Lens, Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import breaks_of, cuts_of, found_cuts, pose_cuts
from anaxis.core.proof.proof import Proof, prove
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.time.rates import nearest_places
from anaxis.core.typing import Bools, Floats, Ints

Keep = Literal["frames", "time"]
HANDLE_WAYS = ("hold", "extend")
_ON_SAMPLE = 1e-9
# Steps under it, in metres or radians, are those of a camera that stands.
_STILL = 1e-9
MAX_HANDLES = 1000


def at_rate(track: Track, rate: Fraction, keep: Keep, anchor: float | None = None) -> Track:
    """The track at another rate. ``anchor`` is the frame that keeps its number, the first one where it is None.

    Raises BadInput for a rate that would need too many frames.
    """
    if keep == "frames" or rate == track.rate:
        return replace(track, rate=rate)
    start = track.frames[0] if anchor is None else anchor
    steps = np.arange(*_steps_at_rate(track, rate, start), dtype=np.float64)
    moved = sampled(track, start + float(track.rate / rate) * steps)
    return replace(moved, frames=start + steps, rate=rate)


def count_at_rate(track: Track, rate: Fraction) -> int:
    """How many frames the track's time is at another rate. Raises BadInput for too many, or none."""
    first, end = _steps_at_rate(track, rate, track.frames[0])
    return end - first


def _steps_at_rate(track: Track, rate: Fraction, start: float) -> tuple[int, int]:
    """The first new frame within the track and the one after its last, counted from the frame ``start``. Raises BadInput."""
    # From one new frame to the next, in old frames. Every frame is shown for its whole length, so n frames last n steps.
    step = float(track.rate / rate)
    first = int(np.ceil((track.frames[0] - start) / step - _ON_SAMPLE))
    end = int(np.floor((track.frames[-1] + 1.0 - start) / step + _ON_SAMPLE))
    if not 1 <= end - first <= MAX_FRAMES:
        raise BadInput(f"'{track.name}' would have {end - first} frames at that rate; 1 to {MAX_FRAMES} are possible.")
    return first, end


def sampled(track: Track, at: Floats) -> Track:
    """The track at the frames ``at`` (m,); a sample that is there is taken as it is.

    Between the last sample before a cut and the first behind it, and less than a frame behind the last one, the
    motion goes on from its own side; further out the last sample is held.
    """
    position, rotation = np.empty((len(at), 3)), np.empty((len(at), 3, 3))
    breaks = breaks_of(track)
    cuts = cuts_of(track, breaks)
    for inside, part, where in _pieces(track, pose_cuts(track, breaks), at):
        position[inside] = drawn_through(part.frames, part.position_m, where)
        rotation[inside] = _turned(part, where)
    nearest, exact = _coinciding(track.frames, at)
    position[exact], rotation[exact] = track.position_m[nearest], track.rotation[nearest]
    pieces = list(_places(track.frames, cuts, at))

    def drawn(channel: Floats) -> Floats:
        values = np.empty(len(at))
        for inside, first, end in pieces:
            values[inside] = _lens_channel(track.frames[first:end], channel[first:end], at[inside])
        values[exact] = channel[nearest]
        return values

    lens = Lens(**{f.name: drawn(getattr(track.lens, f.name)) for f in fields(Lens)})
    distortion = None if track.distortion is None else track.distortion.changed(drawn)
    made = replace(
        track, frames=at, position_m=position, rotation=rotation, lens=lens, marked=None, distortion=distortion
    )
    return replace(made, marked=_marks_at(track, cuts, made))


def sampled_straight(track: Track, at: Floats) -> Track:
    """The track at the frames ``at`` (m,) as one draws it who knows no curves: straight lines, shortest arcs; held outside."""
    own = track.frames
    where = np.clip(at, own[0], own[-1])
    place = np.stack([np.interp(where, own, v) for v in track.position_m.T], axis=1)
    turn = (
        np.repeat(track.rotation, len(at), axis=0)
        if len(own) == 1
        else np.asarray(
            scipy.spatial.transform.Slerp(own, scipy.spatial.transform.Rotation.from_matrix(track.rotation))(
                where
            ).as_matrix()
        )
    )
    lens = Lens(**{f.name: np.interp(where, own, getattr(track.lens, f.name)) for f in fields(Lens)})
    bent = None if track.distortion is None else track.distortion.changed(lambda v: np.interp(where, own, v))
    return replace(track, frames=at, position_m=place, rotation=turn, lens=lens, marked=None, distortion=bent)


def landmarks_at(track: Track, landmarks: Landmarks, at: Floats) -> Landmarks:
    """The landmarks on the frames ``at`` (m,) as the camera's own positions go: by a cubic, never across a cut."""
    if len(landmarks.position_m) == 1:
        return landmarks
    flat = landmarks.position_m.reshape(len(track), -1)
    out = np.empty((len(at), flat.shape[1]))
    for inside, first, end in _places(track.frames, pose_cuts(track), at):
        out[inside] = drawn_through(track.frames[first:end], flat[first:end], at[inside])
    nearest, exact = _coinciding(track.frames, at)
    out[exact] = flat[nearest]
    return replace(landmarks, position_m=out.reshape(len(at), *landmarks.position_m.shape[1:]))


def _places(frames: Floats, cuts: Ints, at: Floats) -> Iterator[tuple[Ints, int, int]]:
    """Which of ``at`` lie in each piece between cuts, with its first sample and the one behind its last."""
    starts = np.concatenate([[0], cuts]).astype(np.int64)
    ends = np.concatenate([starts[1:], [len(frames)]])
    piece = np.clip(np.searchsorted(frames[starts], at + _ON_SAMPLE, side="right") - 1, 0, len(starts) - 1)
    for k, inside in _grouped(piece):
        yield inside, int(starts[k]), int(ends[k])


def _grouped(keys: Ints) -> Iterator[tuple[int, Ints]]:
    """Every key there is, and the places of it, in order."""
    order = np.argsort(keys, kind="stable")
    found, first = np.unique(keys[order], return_index=True)
    yield from zip(found.tolist(), np.split(order, first[1:]), strict=True)


def _pieces(track: Track, cuts: Ints, at: Floats) -> Iterator[tuple[Ints, Track, Floats]]:
    for inside, first, end in _places(track.frames, cuts, at):
        yield inside, track.select_frames(np.arange(first, end)), at[inside]


def _marks_at(track: Track, cuts: Ints, made: Track) -> Ints | None:
    """What was marked, at the first new sample from the marked one on; and the source's own ``cuts``, where the new
    samples would show others: a cut is one at every rate."""
    seen = found_cuts(made)
    if not len(cuts) and track.marked is None and not len(seen):
        return None
    marked = np.zeros(len(made), dtype=np.int64)

    def place(old: Ints) -> Ints:
        return np.searchsorted(made.frames, track.frames[old] - _ON_SAMPLE)

    if track.marked is not None:
        old = np.flatnonzero(track.marked)
        new = place(old)
        marked[new[new < len(made)]] = track.marked[old[new < len(made)]]
    wanted = place(cuts)
    wanted = np.unique(wanted[(wanted > 0) & (wanted < len(made))])
    marked[np.setdiff1d(wanted, seen)] = 1
    marked[np.setdiff1d(seen, wanted)] = -1
    return marked if marked.any() else None


def _coinciding(frames: Floats, at: Floats) -> tuple[Ints, Ints]:
    """Which source sample each of ``at`` coincides with, and which of ``at`` do."""
    nearest = nearest_places(frames, at)
    exact = np.flatnonzero(np.abs(frames[nearest] - at) <= _ON_SAMPLE * np.maximum(1.0, np.abs(at)))
    return nearest[exact], exact


def drawn_through(frames: Floats, values: Floats, at: Floats) -> Floats:
    """A cubic through ``values`` (k, c) at ``at`` (m,); straight within holds, going on for less than a frame behind
    the last sample, held before the first."""
    out, rest = _continued(frames, at)
    made = np.empty((len(at), values.shape[1]))
    made[out] = _gone_on(values, rest)
    for inside, first, end in _moving_runs(frames, _still_steps(np.diff(values, axis=0)), at, ~out):
        run = slice(first, end)
        made[inside] = (
            values[first]
            if end - first == 1
            else scipy.interpolate.CubicSpline(frames[run], values[run])(np.maximum(at[inside], frames[first]))
        )
    return made


def _turned(part: Track, at: Floats) -> Floats:
    """Rotations (m, 3, 3) as :func:`drawn_through` draws positions."""
    out, rest = _continued(part.frames, at)
    made = np.empty((len(at), 3, 3))
    turn = scipy.spatial.transform.Rotation.from_matrix(part.rotation)
    steps = (turn[:-1].inv() * turn[1:]).as_rotvec() if len(part) > 1 else np.zeros((0, 3))
    made[out] = (
        part.rotation[-1] @ scipy.spatial.transform.Rotation.from_rotvec(_further(steps, rest)).as_matrix()
        if out.any()
        else 0
    )
    for inside, first, end in _moving_runs(part.frames, _still_steps(steps), at, ~out):
        if end - first == 1:
            made[inside] = part.rotation[first]
        else:
            spline = scipy.spatial.transform.RotationSpline(part.frames[first:end], turn[first:end])
            made[inside] = spline(np.maximum(at[inside], part.frames[first])).as_matrix()
    return made


def _continued(frames: Floats, at: Floats) -> tuple[Bools, Floats]:
    """Which of ``at`` lie behind the last sample, and how far, in its steps; 0 where that is a frame and a step or more."""
    behind = np.asarray(at > frames[-1])
    if len(frames) == 1:
        return behind, np.zeros(int(behind.sum()))
    step = frames[-1] - frames[-2]
    rest = at[behind] - frames[-1]
    return behind, np.where(rest < max(1.0, step) - _ON_SAMPLE, rest / step, 0.0)


def _gone_on(values: Floats, rest: Floats) -> Floats:
    return values[-1] + _further(np.diff(values, axis=0), rest)


def _further(steps: Floats, rest: Floats) -> Floats:
    """Newton's backward formula from the last two steps (k, c): what ``rest`` (m,) of a step more adds."""
    if not len(steps):
        return np.zeros((len(rest), steps.shape[1]))
    bend = steps[-1] - steps[-2] if len(steps) > 1 else np.zeros(steps.shape[1])
    # A start from a hold says nothing of how the speed goes on.
    bend = np.where(np.linalg.norm(bend) > np.linalg.norm(steps[-1]), 0.0, bend)
    share = rest[:, None]
    return share * steps[-1] + share * (share + 1) / 2 * bend


def _still_steps(steps: Floats) -> Bools:
    return np.asarray(np.abs(steps).max(axis=1, initial=0.0) < _STILL)


def _moving_runs(frames: Floats, still: Bools, at: Floats, among: Bools) -> Iterator[tuple[Ints, int, int]]:
    """The samples (first, end) that one spline goes through, and which of ``at`` it is asked for.

    A hold is two still steps or more: it is no part of a spline, and each of its samples stands for itself.
    """
    n = len(frames)
    beside = np.zeros(len(still), dtype=np.bool_)
    if len(still) > 1:
        beside[1:] |= still[:-1]
        beside[:-1] |= still[1:]
    held = still & beside
    span = np.clip(np.searchsorted(frames, at, side="right") - 1, 0, max(0, n - 2))
    asked = np.flatnonzero(among)
    if not len(asked):
        return
    if not len(held):
        yield asked, 0, 1
        return
    run = np.concatenate([[0], np.cumsum(held[1:] != held[:-1])])
    for k, inside in _grouped(run[span[asked]]):
        low, high = (int(i) for i in np.searchsorted(run, [k, k + 1]))
        yield asked[inside], low, low + 1 if held[low] else high + 1


def _lens_channel(frames: Floats, values: Floats, at: Floats) -> Floats:
    """One lens channel, monotone between samples; where the file says nothing of it, nothing is said."""
    if np.isnan(values).any() or np.ptp(values) == 0 or len(values) == 1:
        return values[np.clip(np.searchsorted(frames, at, side="right") - 1, 0, len(frames) - 1)]
    out, rest = _continued(frames, at)
    made = np.empty(len(at))
    if (values > 0).all():  # sizes and distances go on by the same share, and never below zero
        made[out] = values[-1] * (values[-1] / values[-2]) ** rest
    else:
        made[out] = values[-1] + rest * (values[-1] - values[-2])
    made[~out] = scipy.interpolate.PchipInterpolator(frames, values)(np.maximum(at[~out], frames[0]))
    return made


def resampling_error(source: Track, resampled: Track, image: Image, fit: str, anchor: float | None = None) -> Proof:
    """What resampling lost: the resampled track brought back to the source's own samples, in pixels. ``anchor`` as in :func:`at_rate`.

    New samples held behind the source's last one, and source samples behind the last new one before
    it, are left out: there is nothing to compare there.
    """
    step = float(source.rate / resampled.rate)
    start = source.frames[0] if anchor is None else anchor
    times = start + step * (resampled.frames - start)
    inside = np.flatnonzero(times <= source.frames[-1] + _ON_SAMPLE)
    times = times[inside]
    kept = np.flatnonzero((source.frames >= times[0] - _ON_SAMPLE) & (source.frames <= times[-1] + _ON_SAMPLE))
    moved = replace(resampled.select_frames(inside), frames=times)
    back = sampled(moved, np.clip(source.frames[kept], times[0], times[-1]))
    part = source.select_frames(kept)
    return prove(part, projection_of(part, image, fit), projection_of(back, image, fit), np.zeros((1, 0, 3)))


def with_handles(track: Track, head: int, tail: int, way: str) -> Track:
    """The track with ``head`` and ``tail`` frames more, held or going on as it went. Raises BadInput."""
    if way not in HANDLE_WAYS:
        raise BadInput(f"'{way}' is not a way to make handles: choose hold or extend.")
    if not (0 <= head <= MAX_HANDLES and 0 <= tail <= MAX_HANDLES):
        raise BadInput(f"Handles of {head} and {tail} frames are not possible: 0 to {MAX_HANDLES} each.")
    n = len(track)
    index = np.clip(np.arange(-head, n + tail), 0, n - 1)
    first, last = float(track.frames[0]), float(track.frames[-1])
    frames = np.concatenate([first - np.arange(head, 0, -1), track.frames, last + np.arange(1, tail + 1)])
    out = replace(track.select_frames(index), frames=frames)
    if out.marked is not None:  # a handle repeats a sample, and begins nothing
        out.marked[:head] = 0
        out.marked[head + n :] = 0
    if way == "hold" or n < 2:
        return out
    position, rotation = out.position_m.copy(), out.rotation.copy()
    for count, at, near, part in ((head, 0, 1, slice(0, head)), (tail, n - 1, n - 2, slice(n + head, None))):
        if count:
            gap = track.frames[at] - track.frames[near]
            share = (frames[part] - track.frames[at]) / gap
            position[part] = track.position_m[at] + share[:, None] * (track.position_m[at] - track.position_m[near])
            turn = scipy.spatial.transform.Rotation.from_matrix(track.rotation[at] @ track.rotation[near].T).as_rotvec()
            rotation[part] = (
                scipy.spatial.transform.Rotation.from_rotvec(share[:, None] * turn).as_matrix() @ track.rotation[at]
            )
    return replace(out, position_m=position, rotation=rotation)
