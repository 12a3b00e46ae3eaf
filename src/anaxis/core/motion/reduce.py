"""Fewer keys: of a key on every frame, the few that keep the picture within a chosen number of pixels.

A receiver draws a motion between keys channel by channel, so the channels are the receiver's own: its
position, its angles (or quaternions) and those of its lens that vary. Keys lie on samples of the source;
from each one the furthest sample is sought that still keeps every frame between within the tolerance,
measured in pixels at the proof's test points. With Bezier keys the tangents of a span are fitted to the
samples by least squares, handles a third of the span away in time (a cubic Hermite curve), and made one
on both sides of a key wherever the picture allows it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import scipy

from anaxis.core.camera.channels import BESIDE, CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import cuts_of
from anaxis.core.number_text import px_text
from anaxis.core.proof.proof import TestPoints, deviations_px, make_test_points, motion_size_m
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats, Ints

Interpolation = Literal["linear", "bezier"]
Turns = Literal["angles", "quaternions"]
# Channels that do not move the picture are kept to this share of their value.
UNSEEN_SHARE = 0.002
Progress = Callable[[float], None]
# Test points are worked out for so many frames at a time: those of all frames of a long shot fill a gigabyte.
_BLOCK, _BLOCKS_KEPT = 1024, 8
# Where keys are dense, straight spans of up to _SHORT samples are tried at almost every sample. After _OFTEN trials of one length
# in a block of frames, all spans of that length that begin in the block are measured at once.
_SHORT, _OFTEN = 4, 8


def no_progress(share: float) -> None:
    """For whoever does not want to know how far the work is."""


def part_of(progress: Progress, i: int, count: int) -> Progress:
    """What the i-th of ``count`` equal parts of a work tells its own share to."""
    return lambda share: progress((i + share) / count)


@dataclass(frozen=True)
class KeyRule:
    """How a receiver draws between keys: in which convention, straight or curved, angles or quaternions."""

    convention: Convention
    interpolation: Interpolation = "linear"
    turns: Turns = "angles"


@dataclass(frozen=True, eq=False)
class Keys:
    """A motion as few keys.

    ``index`` (k,) places of the keys among the track's frames, ``frames`` (k,); ``values`` (k, c) of the
    ``channels``; ``slope_in`` and ``slope_out`` (k, c) per frame, on the two sides of a key (straight
    spans have those of their chord). Position in the rule's units, angles in degrees, lens as in Lens.
    """

    rule: KeyRule
    channels: tuple[str, ...]
    index: Ints
    frames: Floats
    values: Floats
    slope_in: Floats
    slope_out: Floats

    def __len__(self) -> int:
        return len(self.index)

    def column(self, channel: str) -> int:
        return self.channels.index(channel)


@dataclass(frozen=True, eq=False)
class Reduced:
    """``keys`` and the track that they draw, with its deviation in pixels on every frame, (n,)."""

    keys: Keys
    track: Track
    deviation_px: Floats

    def summary(self) -> dict[str, Any]:
        """Plain JSON: how many keys of how many, which, and the worst frame."""
        at = int(np.argmax(self.deviation_px))
        return {
            "before": len(self.track),
            "after": len(self.keys),
            "interpolation": self.keys.rule.interpolation,
            "max_px": float(self.deviation_px[at]),
            "worst_frame": plain_frame(self.track.frames[at]),
            "frames": [plain_frame(f) for f in self.keys.frames.tolist()],
        }

    @property
    def sentence(self) -> str:
        """What was won and what it costs, in a few words."""
        linear = self.keys.rule.interpolation == "linear"
        nearly_all = linear and len(self.keys) > 0.6 * len(self.track) > 6
        return (
            f"{len(self.keys)} of {len(self.track)} keys ({'straight' if linear else 'curved'} spans) keep every frame within "
            f"{px_text(self.deviation_px.max())}."
            + (
                " Readers of this format interpolate linearly, which needs nearly all keys; track JSON, glTF and COLLADA use curves and need far fewer."
                if nearly_all
                else ""
            )
        )


class _Fit:
    """One track on the way to fewer keys: its channels, and the pixels that a change of them costs."""

    def __init__(self, track: Track, image: Image, fit: str, landmarks_m: Floats, rule: KeyRule) -> None:
        self.track, self.image, self.fit, self.rule = track, image, fit, rule
        self.channels, self.values = channels_of(track, rule)
        self.meant, self.landmarks_m = projection_of(track, image, fit), landmarks_m
        self.motion_m = motion_size_m(track)
        self.blocks: dict[int, TestPoints] = {}
        self.tried: Counter[tuple[int, int]] = Counter()
        self.short: dict[tuple[int, int], Floats] = {}
        self.unseen = [i for i, c in enumerate(self.channels) if c in BESIDE]

    def deviation(self, at: Ints, values: Floats) -> Floats:
        """Pixels off on the frames ``at`` (m,) with other ``values`` (m, c); infinite where focus and the like go."""
        moved = track_of_channels(self.track.select_frames(at), self.channels, values, self.rule)
        arrived = projection_of(moved, self.image, self.fit)
        off = np.empty(len(at))
        block = at // _BLOCK
        for k in np.unique(block).tolist():
            here = np.flatnonzero(block == k)
            some = self._points(k).select_frames(at[here] - k * _BLOCK)
            off[here] = deviations_px(some, arrived.select_frames(here))
        if self.unseen:
            was, now = self.values[at][:, self.unseen], values[:, self.unseen]
            lost = (np.abs(now - was) > UNSEEN_SHARE * np.abs(was)).any(axis=1)
            off = np.where(lost, np.inf, off)
        return off

    def _points(self, k: int) -> TestPoints:
        """The test points of one block of frames; the last few blocks are at hand, for keys are sought from left to right."""
        if k not in self.blocks:
            while len(self.blocks) >= _BLOCKS_KEPT:
                del self.blocks[next(iter(self.blocks))]
            part = slice(k * _BLOCK, (k + 1) * _BLOCK)
            marks = self.landmarks_m if len(self.landmarks_m) == 1 else self.landmarks_m[part]
            track = self.track.select_frames(np.arange(len(self.track))[part])
            self.blocks[k] = make_test_points(track, self.meant.select_frames(part), marks, self.motion_m)
        return self.blocks[k]

    def slopes(self, i: int, j: int) -> tuple[Floats, Floats]:
        """Slopes at both ends of the span from sample i to j, each (c,)."""
        return span_slopes(self.track.frames[i : j + 1], self.values[i : j + 1], self.rule.interpolation)

    def keeps(self, i: int, j: int, tolerance_px: float) -> bool:
        """Whether the span from i to j draws every sample between within the tolerance."""
        if j - i < 2:
            return True
        if self.rule.interpolation == "linear" and j - i <= _SHORT:
            which = (i // _BLOCK, j - i)
            self.tried[which] += 1
            if self.tried[which] > _OFTEN:
                if which not in self.short:
                    self.short[which] = self._short_spans(*which)
                return bool(self.short[which][i % _BLOCK] <= tolerance_px)
        keys = np.array([i, j])
        out, into = self.slopes(i, j)
        inside = np.arange(i + 1, j)
        values = drawn(self.track.frames[keys], self.values[keys], np.stack([out, into]), np.stack([out, into]), self.rule,
                       self.channels, self.track.frames[inside])  # fmt: skip
        return bool(self.deviation(inside, values).max() <= tolerance_px)

    def _short_spans(self, block: int, length: int) -> Floats:
        """The largest deviation of the straight span of ``length`` samples from each sample of a block, (_BLOCK,) px; infinite where
        the track ends first. Spans that follow one another are measured in one call, then those that begin a sample later."""
        first = block * _BLOCK
        last = min(first + _BLOCK - 1 + length, len(self.track) - 1)
        worst = np.full(_BLOCK + length, np.inf)
        for start in range(first, min(first + length, last - length + 1)):
            keys = np.arange(start, last + 1, length)
            inside = (keys[:-1, None] + np.arange(1, length)).ravel()
            straight = np.zeros((len(keys), len(self.channels)))  # the slopes of a straight span are those of its chord
            values = drawn(self.track.frames[keys], self.values[keys], straight, straight, self.rule, self.channels,
                           self.track.frames[inside])  # fmt: skip
            worst[keys[:-1] - first] = self.deviation(inside, values).reshape(-1, length - 1).max(axis=1)
        return worst[:_BLOCK]


def require_tolerance(tolerance_px: float) -> None:
    """Raise BadInput for a tolerance that is not above zero."""
    if not (np.isfinite(tolerance_px) and tolerance_px > 0):
        raise BadInput(
            f"Keyframe reduction within {tolerance_px:g} px is not possible: type a number above zero, such as 0.1."
        )


def span_slopes(frames: Floats, values: Floats, interpolation: str) -> tuple[Floats, Floats]:
    """Slopes (c,) at both ends of one span through samples ``values`` (m, c) at ``frames`` (m,), in the least squares."""
    span = frames[-1] - frames[0]
    chord = (values[-1] - values[0]) / span
    if interpolation == "linear" or len(frames) < 3:
        return chord, chord
    basis = _hermite((frames[1:-1] - frames[0]) / span)
    rest = values[1:-1] - basis[:, :1] * values[0] - basis[:, 1:2] * values[-1]
    if len(frames) == 3:  # one sample cannot settle two slopes: the smallest change from the chord
        rest = rest - (basis[:, 2:] * span) @ np.stack([chord, chord])
        found = np.linalg.lstsq(basis[:, 2:] * span, rest, rcond=None)[0]
        return chord + found[0], chord + found[1]
    found = np.linalg.lstsq(basis[:, 2:] * span, rest, rcond=None)[0]
    return found[0], found[1]


def channels_of(track: Track, rule: KeyRule) -> tuple[tuple[str, ...], Floats]:
    """The names and values (n, c) of a track's channels as a receiver keys them; lens channels only where they vary."""
    convention = rule.convention
    turned = convention.rotation_from_canonical(track.rotation)
    names = ["position_x", "position_y", "position_z"]
    columns = [convention.position_from_canonical(track.position_m)]
    if rule.turns == "angles":
        names += ["rotation_x", "rotation_y", "rotation_z"]
        columns.append(angles_from_matrices(turned, convention.order, convention.signs).deg)
    else:
        names += ["quaternion_x", "quaternion_y", "quaternion_z", "quaternion_w"]
        columns.append(continuous_quaternions(turned))
    for name in CHANNELS:
        values = getattr(track.lens, name)
        if np.isfinite(values).all() and np.ptp(values) > 0:
            names.append(name)
            columns.append(values[:, None])
    return tuple(names), np.concatenate(columns, axis=1)


def continuous_quaternions(rotation: Floats) -> Floats:
    """Unit quaternions x, y, z, w (n, 4) of rotations (n, 3, 3), each on the side of the one before."""
    found = scipy.spatial.transform.Rotation.from_matrix(rotation).as_quat()
    turns = np.sign(np.einsum("ij,ij->i", found[:-1], found[1:]))
    flips = np.concatenate([[1.0], np.cumprod(np.where(turns < 0, -1.0, 1.0))])
    return np.asarray(found * flips[:, None])


def track_of_channels(track: Track, channels: tuple[str, ...], values: Floats, rule: KeyRule) -> Track:
    """``track`` with its motion and varying lens taken from channel values (n, c)."""
    convention, c = rule.convention, values
    turned = (
        matrices_from_angles(c[:, 3:6], convention.order, convention.signs)
        if rule.turns == "angles"
        else scipy.spatial.transform.Rotation.from_quat(c[:, 3:7]).as_matrix()
    )
    lens = {n: c[:, i] for i, n in enumerate(channels) if n in CHANNELS}
    return replace(
        track,
        position_m=convention.position_to_canonical(c[:, :3]),
        rotation=convention.rotation_to_canonical(turned),
        lens=replace(track.lens, **lens),
    )


def _hermite(u: Floats) -> Floats:
    """The cubic Hermite basis at u in 0 to 1, (m, 4): both values, then both slopes times the span."""
    u2, u3 = u * u, u * u * u
    return np.stack([2 * u3 - 3 * u2 + 1, 3 * u2 - 2 * u3, u3 - 2 * u2 + u, u3 - u2], axis=1)


def drawn(
    frames: Floats, values: Floats, slope_in: Floats, slope_out: Floats, rule: KeyRule, channels: tuple[str, ...], at: Floats
) -> Floats:  # fmt: skip
    """What keys draw at the frames ``at`` (m,): channel values (m, c). Straight quaternions go by the shortest arc."""
    span = np.clip(np.searchsorted(frames, at, side="right") - 1, 0, max(0, len(frames) - 2))
    if len(frames) == 1:
        return np.repeat(values, len(at), axis=0)
    length = (frames[span + 1] - frames[span])[:, None]
    u = np.clip((at - frames[span]) / length[:, 0], 0.0, 1.0)
    if rule.interpolation == "linear":
        out = values[span] + (values[span + 1] - values[span]) * u[:, None]
        if rule.turns == "quaternions":
            arc = scipy.spatial.transform.Slerp(frames, scipy.spatial.transform.Rotation.from_quat(values[:, 3:7]))
            out[:, 3:7] = arc(np.clip(at, frames[0], frames[-1])).as_quat()
        return np.asarray(out)
    basis = _hermite(u)
    return np.asarray(
        basis[:, :1] * values[span]
        + basis[:, 1:2] * values[span + 1]
        + length * (basis[:, 2:3] * slope_out[span] + basis[:, 3:] * slope_in[span + 1])
    )


def reduce(
    track: Track,
    image: Image,
    fit: str,
    landmarks_m: Floats,
    rule: KeyRule,
    tolerance_px: float,
    progress: Progress = no_progress,
) -> Reduced:
    """The fewest keys found that keep the picture of ``track`` within ``tolerance_px`` on every frame.

    ``landmarks_m`` (1, l, 3) or (n, l, 3); ``progress`` is told the share done, and may raise to stop.
    Raises BadInput for a tolerance that is not above zero.
    """
    require_tolerance(tolerance_px)
    fitted = _Fit(track, image, fit, landmarks_m, rule)
    starts = np.concatenate([[0], cuts_of(track)]).astype(int)
    index: list[int] = []
    for first, last in zip(starts.tolist(), [*(starts[1:] - 1).tolist(), len(track) - 1], strict=True):
        index += _keys_between(fitted, first, last, tolerance_px, lambda at: progress(0.9 * at / len(track)))
    keys = _with_slopes(fitted, np.array(index), tolerance_px)
    every = _drawn_by(keys, track.frames)
    progress(1.0)
    moved = track_of_channels(track, keys.channels, every, rule)
    return Reduced(keys, moved, fitted.deviation(np.arange(len(track)), every))


def rekeyed(keys: Keys, track: Track) -> Keys:
    """The keys on the same places of another track: its own values, slopes fitted to it anew."""
    channels, values = channels_of(track, keys.rule)
    k, c = len(keys), len(channels)
    into, out = np.zeros((k, c)), np.zeros((k, c))
    for s in range(k - 1):
        span = slice(int(keys.index[s]), int(keys.index[s + 1]) + 1)
        out[s], into[s + 1] = span_slopes(track.frames[span], values[span], keys.rule.interpolation)
    if k > 1:
        into[0], out[-1] = out[0], into[-1]
    return Keys(keys.rule, channels, keys.index, track.frames[keys.index], values[keys.index], into, out)


def _keys_between(fitted: _Fit, first: int, last: int, tolerance_px: float, progress: Progress) -> list[int]:
    """Keys from ``first`` to ``last``, both among them: each one as far from the one before as can be."""
    keys, at, reach = [first], first, 4
    while at < last:
        progress(at)
        # Doubling, then halving: how far a span may go is found in a few trials, from the last one's length.
        good, step = 1, max(2, reach)
        bad = last - at + 1
        while good < last - at:
            trial = min(step, last - at)
            if fitted.keeps(at, at + trial, tolerance_px):
                good, step = trial, trial * 2
            else:
                bad = trial
                break
        while bad - good > 1:
            middle = (good + bad) // 2
            if fitted.keeps(at, at + middle, tolerance_px):
                good = middle
            else:
                bad = middle
        at, reach = at + good, good
        keys.append(at)
    return keys


def _with_slopes(fitted: _Fit, index: Ints, tolerance_px: float) -> Keys:
    """The slopes of every span; the two of a key made one wherever both its spans stay within the tolerance."""
    k, c = len(index), len(fitted.channels)
    into, out = np.zeros((k, c)), np.zeros((k, c))
    for s in range(k - 1):
        out[s], into[s + 1] = fitted.slopes(int(index[s]), int(index[s + 1]))
    if k > 1:
        into[0], out[-1] = out[0], into[-1]
    frames = fitted.track.frames[index]
    broken = Keys(fitted.rule, fitted.channels, index, frames, fitted.values[index], into, out)
    if fitted.rule.interpolation == "linear" or k < 3:
        return broken
    cut = set(cuts_of(fitted.track).tolist())
    smooth = np.array([i not in cut and i + 1 not in cut for i in index.tolist()])
    smooth[[0, -1]] = False
    length = np.diff(frames)[:, None]
    one = into.copy()
    one[1:-1] = (into[1:-1] * length[:-1] + out[1:-1] * length[1:]) / (length[:-1] + length[1:])
    span_of = np.clip(np.searchsorted(index, np.arange(len(fitted.track)), side="right") - 1, 0, k - 2)
    while True:
        joined = replace(
            broken, slope_in=np.where(smooth[:, None], one, into), slope_out=np.where(smooth[:, None], one, out)
        )
        every = _drawn_by(joined, fitted.track.frames)
        off = fitted.deviation(np.arange(len(fitted.track)), every) > tolerance_px
        failing = np.unique(span_of[off])
        ends = np.unique(np.concatenate([failing, failing + 1]))
        if not smooth[ends].any():
            return joined
        smooth[ends] = False


def _drawn_by(keys: Keys, at: Floats) -> Floats:
    return drawn(keys.frames, keys.values, keys.slope_in, keys.slope_out, keys.rule, keys.channels, at)
