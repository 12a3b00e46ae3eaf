"""Where a motion breaks: steps from one frame to the next that neither side of them leads up to.

What a whole shot does says nothing about one step of it: a hold makes every move look large, and a whip pan
is fast for a few frames. A step is therefore held against the motion right beside it. Its *jump* is what it has
more than the steps before and behind it, the smaller of the two: a move that starts, however abruptly, goes on
behind the step, and one that stops was there before it. The jump's *weight* is how many times larger it is than
the changes of speed among the four steps on either side, and than a share of the speed of its neighbours (a move
that starts between two frames has a first step of any length). Position, rotation and lens are weighed apart and
counted together. A sample that leaps away and is back a frame later (a stray sample) is set aside first.

Where cuts lie a few frames apart, each would hide the other: a step that leaps alone, or two that leap one behind the other
in different directions, are no part of the motion that others are held against. Many of them beside each other are a motion
in steps, such as one that is drawn on every second frame, and are held against each other.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Bools, Floats, Ints

# Jumps smaller than these are no cut, whatever stands beside them: metres, degrees, share of the lens.
LEAP_M = 0.05
LEAP_DEG = 5.0
LEAP_LENS = 0.02
# From here on a jump is a cut; from the lesser one on it may be one, and is one where two quantities say so.
CERTAIN = 10.0
POSSIBLE = 4.0
# Held against two steps on either side only, where another cut is near, more is asked for.
CERTAIN_NEAR = 30.0
_WIDE, _NEAR = 4, 2
# Of the speed beside a step, what a jump is held against: half of it, at most, is a start between two frames.
PACE = 0.2
# A stray sample is this many times further away than its neighbours are from each other.
STRAY = 8.0


# Leaps that so many others lie beside, within so many steps, are taken for a motion in steps.
_CROWD, _CROWD_REACH = 2, 8
# Two leaps one behind the other are two where they differ by so much of the larger.
_APART = 0.9
# Leaps in a row of cuts, and over how many steps around one its usual motion is taken.
_ROW, _ROW_AROUND = (3, 6), 33
# The usual pace around a row: of the steps around it, sorted by pace, this one (the 75th percentile). In a motion in steps, half
# of the steps stand still.
_ROW_USUAL = 24
# Of its largest leap, how far a row of cuts leads at least; and how many of its leaps turn elsewhere in a possible one.
_THROUGH, _ROW_SHARE = 0.75, 0.5
# The least step that counts in a motion in steps, as a share of the least leap.
_TINY = 1e-3


class Steps(NamedTuple):
    """From each frame to the next: ``metres`` and ``degrees``, (n - 1,) each."""

    metres: Floats
    degrees: Floats


class Breaks(NamedTuple):
    """Places (k,) of the samples that begin something new: of the ``pose``, of the ``lens`` alone, and where it
    is ``undecided``; ``strays`` are single samples that are far from both neighbours (each breaks the pose on
    both sides)."""

    pose: Ints
    lens: Ints
    undecided: Ints
    strays: Ints


_NONE = np.zeros(0, dtype=np.int64)


def steps_of(track: Track) -> Steps | None:
    """The steps of a track; None where they cannot be told: under four frames, or samples that are no numbers."""
    if not _tellable(track):
        return None
    metres = np.linalg.norm(np.diff(track.position_m, axis=0), axis=1)
    return Steps(metres, angle_between_deg(track.rotation[:-1], track.rotation[1:]))


def _tellable(track: Track) -> bool:
    return len(track) >= 4 and bool(np.isfinite(track.position_m).all() and np.isfinite(track.rotation).all())


def cuts_of(track: Track, breaks: Breaks | None = None) -> Ints:
    """The places (k,) of the samples that begin something new: cuts of pose or lens, and what a person marked.

    ``breaks`` are those of the track, where they are at hand.
    """
    return _with_marks(track, found_cuts(track, breaks))


def pose_cuts(track: Track, breaks: Breaks | None = None) -> Ints:
    """Those of :func:`cuts_of` across which no pose is drawn; a lens that steps alone breaks no motion."""
    return _with_marks(track, (breaks or breaks_of(track)).pose)


def found_cuts(track: Track, breaks: Breaks | None = None) -> Ints:
    """The places (k,) behind cuts of pose or lens, whatever anybody has marked."""
    found = breaks or breaks_of(track)
    return np.union1d(found.pose, found.lens)


def _with_marks(track: Track, found: Ints) -> Ints:
    if track.marked is None:
        return found
    found = np.union1d(found, np.flatnonzero(track.marked > 0))
    found = np.setdiff1d(found, np.flatnonzero(track.marked < 0))
    return found[found > 0]


def breaks_of(track: Track) -> Breaks:
    """Where pose and lens break, and where that cannot be told; none in under four samples."""
    if not _tellable(track):
        return Breaks(_NONE, _NONE, _NONE, _NONE)
    strays = _strays(track)
    left = np.setdiff1d(np.arange(len(track)), strays)
    kept = track if not len(strays) else track.select_frames(left)
    if len(kept) < 4:
        return Breaks(_NONE, _NONE, _NONE, strays)
    places, turns, lenses = _position_steps(kept), _rotation_steps(kept), _lens_steps(kept)
    leaps = _few(kept.frames, (places[0], LEAP_M), (turns[0], LEAP_DEG))
    weights = [
        _weigh(kept.frames, *places, LEAP_M, leaps),
        _weigh(kept.frames, *turns, LEAP_DEG, leaps),
        _weigh(kept.frames, *lenses, LEAP_LENS, leaps),
    ]
    certain = np.stack([(w.wide >= CERTAIN) | (w.near >= CERTAIN_NEAR) for w in weights])
    possible = np.stack([w.wide >= POSSIBLE for w in weights])
    # At the first and the last step there is one side only: nothing is certain there.
    edge = np.zeros(len(kept) - 1, dtype=np.bool_)
    edge[[0, -1]] = True
    together = possible.sum(axis=0) >= 2
    pose = (certain[:2].any(axis=0) | (together & possible[:2].any(axis=0))) & ~edge
    lens = certain[2] & ~edge & ~pose
    rows = _rows_of_cuts(kept.frames, places[0], turns[0])
    pose |= rows.certain & ~edge
    lens &= ~pose
    undecided = ((possible | certain).any(axis=0) | rows.possible) & ~pose & ~lens
    isolated = np.unique(np.concatenate([strays, strays + 1])) if len(strays) else _NONE
    return Breaks(
        np.union1d(left[1:][pose], isolated[(isolated > 0) & (isolated < len(track))]),
        left[1:][lens],
        left[1:][undecided],
        strays,
    )


class _Weight(NamedTuple):
    """How many times larger each step's jump (n - 1,) is than what goes on beside it, over wide and near windows."""

    wide: Floats
    near: Floats


def _leaps(frames: Floats, steps: Floats, least: float) -> Bools:
    """Steps (m, c) of ``least`` or more that leap alone: those beside them are a tenth as long, at most; and pairs of such."""
    speed = steps / np.diff(frames)[:, None]
    pace = np.linalg.norm(speed, axis=1)
    padded = np.concatenate([[0.0], pace, [0.0, 0.0]])
    large = (pace * np.diff(frames) >= least) & (np.arange(len(pace)) > 0) & (np.arange(len(pace)) < len(pace) - 1)
    quiet = pace >= CERTAIN * np.maximum(padded[:-3], padded[2:-1])
    both = large[:-1] & large[1:]
    apart = np.linalg.norm(speed[1:] - speed[:-1], axis=1) >= _APART * np.maximum(pace[:-1], pace[1:])
    outside = np.maximum(padded[:-4], padded[3:-1])
    pair = both & apart & (np.minimum(pace[:-1], pace[1:]) >= CERTAIN * outside)
    out = large & quiet
    out[:-1] |= pair
    out[1:] |= pair
    return np.asarray(out)


def _few(frames: Floats, *quantities: tuple[Floats, float]) -> Bools:
    """Leaps that stand beside one other: one alone hides nothing, many are a motion in steps, and so are two in one direction.

    ``quantities`` are the steps (m, c) of place and turn, and the least that is a leap in each; smaller steps that stand alone
    belong to a motion in steps, too.
    """
    leaps = np.any([_leaps(frames, steps, least) for steps, least in quantities], axis=0)
    alone = np.any([_leaps(frames, steps, _TINY * least) for steps, least in quantities], axis=0)
    padded = np.pad(alone.astype(np.float64), _CROWD_REACH)
    others = np.convolve(padded, np.ones(2 * _CROWD_REACH + 1), mode="valid") - 1
    at = np.flatnonzero(leaps & (others >= 1) & (others < _CROWD))
    first, second = at[:-1], at[1:]
    apart = np.zeros(len(first), dtype=np.bool_)
    for steps, least in quantities:
        larger = np.maximum(np.linalg.norm(steps[first], axis=1), np.linalg.norm(steps[second], axis=1))
        apart |= (larger >= least) & (np.linalg.norm(steps[first] - steps[second], axis=1) >= _APART * larger)
    apart &= second - first <= _CROWD_REACH
    out = np.zeros(len(leaps), dtype=np.bool_)
    out[first[apart]] = out[second[apart]] = True
    return out


class _Rows(NamedTuple):
    """Steps (m,) that are cuts in a row of three or more, and those that may be."""

    certain: Bools
    possible: Bools


def _rows_of_cuts(frames: Floats, places: Floats, turns: Floats) -> _Rows:
    """Three to six leaps a few frames apart, in a motion that is far slower for the rest: each hides the others, so they are held
    against what the motion around them does for the most part. Each leads elsewhere than the one before it; a quick move goes on in one direction.

    Where the camera comes back to where it was, it may have been shaken instead: those are possible cuts.
    """
    span = np.diff(frames)
    paces = [np.linalg.norm(steps, axis=1) / span for steps in (places, turns)]
    large = np.zeros(len(span), dtype=np.bool_)
    usual = []
    for pace, least in zip(paces, (LEAP_M, LEAP_DEG), strict=True):
        around = np.lib.stride_tricks.sliding_window_view(np.pad(pace, _ROW_AROUND // 2, mode="edge"), _ROW_AROUND)
        usual.append(np.partition(around, _ROW_USUAL, axis=1)[:, _ROW_USUAL])
        large |= (pace * span >= least) & (pace >= CERTAIN * usual[-1])
    at = np.flatnonzero(large)
    certain, possible = np.zeros(len(span), dtype=np.bool_), np.zeros(len(span), dtype=np.bool_)
    for row in np.split(at, np.flatnonzero(np.diff(at) > _CROWD_REACH) + 1):
        if not _ROW[0] <= len(row) <= _ROW[1]:
            continue
        elsewhere = np.zeros(len(row) - 1, dtype=np.bool_)
        away = False
        for steps, least, pace in zip((places, turns), (LEAP_M, LEAP_DEG), usual, strict=True):
            of_row = steps[row]
            sizes = np.linalg.norm(of_row, axis=1)
            larger = np.maximum(sizes[:-1], sizes[1:])
            leaps = larger >= np.maximum(least, CERTAIN * pace[row[1:]] * span[row[1:]])
            elsewhere |= leaps & (np.linalg.norm(np.diff(of_row, axis=0), axis=1) >= _APART * larger)
            through = np.linalg.norm(steps[max(0, row[0] - _NEAR) : row[-1] + 1 + _NEAR].sum(axis=0))
            away |= bool(through >= max(least, CERTAIN * pace[row].max(), _THROUGH * sizes.max()))
        if elsewhere.all() and away:
            certain[row] = True
        elif elsewhere.mean() >= _ROW_SHARE:
            possible[row] = True
    return _Rows(certain, possible)


def _weigh(frames: Floats, steps: Floats, least_seen: float, least: float, leaps: Bools) -> _Weight:
    """Weigh vector steps (m, c). Jumps under ``least`` weigh nothing; changes of speed under ``least_seen`` are noise. Other
    steps that are ``leaps`` (m,) are no part of what goes on beside one."""
    span = np.diff(frames)[:, None]
    speed = steps / span
    change = np.linalg.norm(np.diff(speed, axis=0), axis=1)  # (m - 1,): of step j to j + 1
    before, behind = np.concatenate([[np.inf], change]), np.concatenate([change, [np.inf]])
    # Beside a leap a step is held against what lies beyond it.
    beyond = np.linalg.norm(speed[2:] - speed[:-2], axis=1)
    next_to = np.flatnonzero(leaps[1:-1]) + 1
    behind[next_to - 1], before[next_to + 1] = beyond[next_to - 1], beyond[next_to - 1]
    jump = np.minimum(before, behind)
    change = np.where(leaps[:-1] | leaps[1:], 0.0, change)
    pace = np.where(leaps, 0.0, np.linalg.norm(speed, axis=1))
    quick = PACE * np.maximum(np.concatenate([[0.0], pace[:-1]]), np.concatenate([pace[1:], [0.0]]))
    beside = {}
    for reach in (_WIDE, _NEAR):
        # Changes that the step itself has no part in: it takes part in those at i - 1 and i.
        away = [*range(-reach - 1, -1), *range(1, reach + 1)]
        most = np.maximum(_most(change, len(steps), away), np.maximum(quick, least_seen))
        beside[reach] = most
    size = jump * span[:, 0]
    counts = np.isfinite(jump) & (size >= least)
    return _Weight(*(np.where(counts, jump / beside[r], 0.0) for r in (_WIDE, _NEAR)))


def _position_steps(track: Track) -> tuple[Floats, float]:
    return np.diff(track.position_m, axis=0), LEAP_M / 1000


def _rotation_steps(track: Track) -> tuple[Floats, float]:
    turned = track.rotation[1:] @ np.swapaxes(track.rotation[:-1], 1, 2)
    return np.degrees(scipy.spatial.transform.Rotation.from_matrix(turned).as_rotvec()), LEAP_DEG / 1000


def _lens_steps(track: Track) -> tuple[Floats, float]:
    """The lens on a scale where one part in a hundred is 0.01: sizes as logarithms, offsets as a share of the width."""
    lens = track.lens
    with np.errstate(invalid="ignore", divide="ignore"):
        rows = [np.log(getattr(lens, k)) for k in ("focal_mm", "film_width_mm", "film_height_mm", "squeeze")]
        rows += [getattr(lens, k) / lens.film_width_mm for k in ("offset_x_mm", "offset_y_mm")]
    values = np.stack([r if np.isfinite(r).all() else np.zeros(len(track)) for r in rows], axis=1)
    return np.diff(values, axis=0), LEAP_LENS / 1000


def _strays(track: Track) -> Ints:
    """Samples far from both neighbours, which themselves nearly meet, in a motion that is otherwise quiet there."""
    out = np.zeros(len(track), dtype=np.bool_)
    turn = scipy.spatial.transform.Rotation.from_matrix(track.rotation)
    turned = [np.degrees((turn[k:] * turn[:-k].inv()).magnitude()) for k in (1, 2)]
    placed = [np.linalg.norm(track.position_m[k:] - track.position_m[:-k], axis=1) for k in (1, 2)]
    for (step, across), least in ((placed, LEAP_M), (turned, LEAP_DEG)):
        away = np.minimum(step[:-1], step[1:])  # of sample i + 1 from the nearer of its neighbours
        # The steps beside it, without the two that touch the sample itself.
        away_from_it = [*range(-_WIDE, 0), *range(2, _WIDE + 2)]
        quiet = np.maximum(across, _most(step, len(across), away_from_it))
        out[1:-1] |= (away >= least) & (away >= STRAY * quiet)
    return np.flatnonzero(out)


def _most(values: Floats, count: int, offsets: Iterable[int]) -> Floats:
    """For each of ``count`` places i, the largest of values[i + offset] that there are, (count,)."""
    out = np.zeros(count)
    for offset in offsets:
        low, high = max(0, -offset), min(count, len(values) - offset)
        if high > low:
            out[low:high] = np.maximum(out[low:high], values[low + offset : high + offset])
    return out


def with_mark(track: Track, frame: float, cut: bool) -> Track:
    """The track with a cut marked before ``frame``, or a leap there said to be none. Raises BadInput without that frame."""
    at = np.flatnonzero(np.abs(track.frames - frame) < 1e-6)
    if not len(at) or at[0] == 0:
        raise BadInput(
            f"No cut is possible before frame {format_frame(frame)}: '{track.name}' runs from "
            f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])}, and a cut has frames on both sides."
        )
    marked = np.zeros(len(track), dtype=np.int64) if track.marked is None else track.marked.copy()
    marked[at[0]] = 1 if cut else -1
    return replace(track, marked=marked)


def places_between(track: Track, count: int) -> Floats:
    """``count`` - 1 places between every two frames, but where a cut lies between, (k,) frame numbers."""
    steps = np.setdiff1d(np.arange(len(track) - 1), cuts_of(track) - 1)
    span = np.diff(track.frames)[steps]
    return np.asarray((track.frames[steps][:, None] + span[:, None] * (np.arange(1, count) / count)).ravel())
