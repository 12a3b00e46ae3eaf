"""Another frame rate, and handles: samples where the source had none.

*Same frames*: every frame keeps its pose, the duration changes. *Same time*: the track is sampled anew, the
duration stays; the first frame keeps its number and its sample. Positions and lens go by cubic splines,
rotations by a spline on SO(3) (scipy's RotationSpline), and nothing is drawn across a cut.
"""

from __future__ import annotations

from dataclasses import fields, replace
from fractions import Fraction
from typing import Literal

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation, RotationSpline

from anaxis.core.cuts import cuts_of
from anaxis.core.errors import BadInput
from anaxis.core.lens import Image
from anaxis.core.project import pixel_matrices
from anaxis.core.proof import Proof, prove
from anaxis.core.timing import MAX_FRAMES
from anaxis.core.track import Lens, Track
from anaxis.core.typing import Floats, Ints

Keep = Literal["frames", "time"]
HANDLE_WAYS = ("hold", "extend")
_ON_SAMPLE = 1e-9
MAX_HANDLES = 1000


def at_rate(track: Track, rate: Fraction, keep: Keep) -> Track:
    """The track at another rate. Raises BadInput for a rate that would need too many frames."""
    if keep == "frames" or rate == track.rate:
        return replace(track, rate=rate)
    step = float(track.rate / rate)  # from one new frame to the next, in old frames
    span = float(track.frames[-1] - track.frames[0])
    # Every frame is shown for its whole length, so the time kept is that of n frames, not of n - 1 steps.
    count = int(np.floor((span + 1.0) / step + _ON_SAMPLE))
    if not 1 <= count <= MAX_FRAMES:
        raise BadInput(
            f"'{track.name}' would have {count} frames at that rate; 1 to {MAX_FRAMES} can be had."
        )
    at = track.frames[0] + step * np.arange(count)
    moved = sampled(track, np.minimum(at, track.frames[-1]))
    return replace(moved, frames=track.frames[0] + np.arange(count, dtype=np.float64), rate=rate)


def sampled(track: Track, at: Floats) -> Track:
    """The track at the frames ``at`` (m,), within its range; a sample that is there is taken as it is.

    Between the last sample before a cut and the first behind it, the one before is held.
    """
    position, rotation = np.empty((len(at), 3)), np.empty((len(at), 3, 3))
    lens = {f.name: np.empty(len(at)) for f in fields(Lens)}
    starts = np.concatenate([[0], cuts_of(track)]).astype(np.int64)
    ends = np.concatenate([starts[1:], [len(track)]])
    piece = np.clip(
        np.searchsorted(track.frames[starts], at + _ON_SAMPLE, side="right") - 1, 0, len(starts) - 1
    )
    for k in np.unique(piece).tolist():
        inside = piece == k
        part = track.take(np.arange(starts[k], ends[k]))
        where = np.clip(at[inside], part.frames[0], part.frames[-1])
        position[inside] = _cubic(part.frames, part.position_m, where)
        rotation[inside] = _turned(part, where)
        for name, values in lens.items():
            values[inside] = _lens_channel(part.frames, getattr(part.lens, name), where)
    nearest, exact = _coinciding(track.frames, at)
    position[exact], rotation[exact] = track.position_m[nearest], track.rotation[nearest]
    for name, values in lens.items():
        values[exact] = getattr(track.lens, name)[nearest]
    return replace(
        track,
        frames=at,
        position_m=position,
        rotation=rotation,
        lens=Lens(**lens),
        marked=_marks_at(track, at),
    )


def _marks_at(track: Track, at: Floats) -> Ints | None:
    """What was marked, at the first new sample from the marked one on."""
    if track.marked is None:
        return None
    marked, old = np.zeros(len(at), dtype=np.int64), np.flatnonzero(track.marked)
    new = np.searchsorted(at, track.frames[old] - _ON_SAMPLE)
    inside = new < len(at)
    marked[new[inside]] = track.marked[old[inside]]
    return marked


def _coinciding(frames: Floats, at: Floats) -> tuple[Ints, Ints]:
    """Which source sample each of ``at`` coincides with, and which of ``at`` do."""
    near = np.clip(np.searchsorted(frames, at), 1, max(1, len(frames) - 1))
    near = np.minimum(near, len(frames) - 1)
    before = np.maximum(near - 1, 0)
    nearest = np.where(np.abs(frames[before] - at) < np.abs(frames[near] - at), before, near)
    exact = np.flatnonzero(np.abs(frames[nearest] - at) <= _ON_SAMPLE * np.maximum(1.0, np.abs(at)))
    return nearest[exact], exact


def _cubic(frames: Floats, values: Floats, at: Floats) -> Floats:
    if len(frames) == 1:
        return np.repeat(values, len(at), axis=0)
    return np.asarray(CubicSpline(frames, values)(at))


def _turned(part: Track, at: Floats) -> Floats:
    if len(part) == 1:
        return np.repeat(part.rotation, len(at), axis=0)
    return np.asarray(RotationSpline(part.frames, Rotation.from_matrix(part.rotation))(at).as_matrix())


def _lens_channel(frames: Floats, values: Floats, at: Floats) -> Floats:
    """One lens channel; where the file says nothing of it, nothing is said."""
    if np.isnan(values).any() or np.ptp(values) == 0:
        return values[np.clip(np.searchsorted(frames, at, side="right") - 1, 0, len(frames) - 1)]
    return _cubic(frames, values, at)


def resampling_error(source: Track, resampled: Track, image: Image, fit: str) -> Proof:
    """What resampling lost: the resampled track brought back to the source's own samples, in pixels.

    New samples held behind the source's last one, and source samples behind the last new one before
    it, are left out: there is nothing to compare there.
    """
    step = float(source.rate / resampled.rate)
    times = source.frames[0] + step * (resampled.frames - resampled.frames[0])
    inside = np.flatnonzero(times <= source.frames[-1] + _ON_SAMPLE)
    times = times[inside]
    kept = np.flatnonzero(source.frames <= times[-1] + _ON_SAMPLE)
    moved = replace(resampled.take(inside), frames=times)
    back = sampled(moved, np.minimum(source.frames[kept], times[-1]))
    part = source.take(kept)
    return prove(part, image, fit, pixel_matrices(back, image, fit), np.zeros((1, 0, 3)))


def with_handles(track: Track, head: int, tail: int, way: str) -> Track:
    """The track with ``head`` and ``tail`` frames more, held or going on as it went. Raises BadInput."""
    if way not in HANDLE_WAYS:
        raise BadInput(f"'{way}' is no way to make handles: choose hold or extend.")
    if not (0 <= head <= MAX_HANDLES and 0 <= tail <= MAX_HANDLES):
        raise BadInput(f"Handles of {head} and {tail} frames cannot be: 0 to {MAX_HANDLES} each.")
    n = len(track)
    index = np.clip(np.arange(-head, n + tail), 0, n - 1)
    first, last = float(track.frames[0]), float(track.frames[-1])
    frames = np.concatenate([first - np.arange(head, 0, -1), track.frames, last + np.arange(1, tail + 1)])
    out = replace(track.take(index), frames=frames)
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
            position[part] = track.position_m[at] + share[:, None] * (
                track.position_m[at] - track.position_m[near]
            )
            turn = Rotation.from_matrix(track.rotation[at] @ track.rotation[near].T).as_rotvec()
            rotation[part] = Rotation.from_rotvec(share[:, None] * turn).as_matrix() @ track.rotation[at]
    return replace(out, position_m=position, rotation=rotation)
