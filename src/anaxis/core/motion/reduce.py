"""Fewer keys: of a key on every frame, the few that keep the picture within a chosen number of pixels.

Keys lie on samples of the source; from each one the furthest sample is sought that still keeps every frame between within the
tolerance, measured in pixels at the proof's test points. With Bezier keys the tangents of a span are fitted to the samples by
least squares, and made one on both sides of a key wherever the picture allows it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.channels import BESIDE
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import cuts_of
from anaxis.core.motion.keys import (
    KeyRule,
    Keys,
    channels_of,
    drawn,
    fitted_keys,
    hermite,
    span_slopes,
    track_of_channels,
)
from anaxis.core.number_text import px_text
from anaxis.core.progress import Progress, no_progress
from anaxis.core.proof.proof import TestPoints, deviations_px, make_test_points, motion_size_m
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats, Ints

# Channels that do not move the picture are kept to this share of their value.
UNSEEN_SHARE = 0.002
# Test points are worked out for so many frames at a time: those of all frames of a long shot fill a gigabyte.
_BLOCK, _BLOCKS_KEPT = 1024, 8
# Where keys are dense, straight spans of up to _SHORT samples are tried at almost every sample. After _OFTEN trials of one length
# in a block of frames, all spans of that length that begin in the block are measured at once.
_SHORT, _OFTEN = 4, 8
# Curved spans are measured together with those that the next _AHEAD trials may ask for. Over evenly spaced samples, all spans of
# one length have the same weights; those of up to _WEIGHED samples are kept.
_AHEAD, _WEIGHED = 2, 200


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
        self.curved = rule.interpolation == "bezier"
        self.even = bool(np.ptp(np.diff(track.frames)) == 0) if len(track) > 1 else False
        self.weights: dict[int, Floats] = {}

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

    def worst_px(self, i: int, lengths: Sequence[int]) -> dict[int, float]:
        """The largest deviation in pixels of the spans from sample i, by their length in samples. A short length that is tried often
        is measured for a whole block at once, the others together."""
        known = {n: 0.0 for n in lengths if n < 2}
        for n in (n for n in lengths if not self.curved and 2 <= n <= _SHORT):
            which = (i // _BLOCK, n)
            self.tried[which] += 1
            if self.tried[which] > _OFTEN:
                if which not in self.short:
                    self.short[which] = self._short_spans(*which)
                known[n] = float(self.short[which][i % _BLOCK])
        left = [n for n in lengths if n not in known]
        if left:
            off = self.deviation(
                np.concatenate([np.arange(i + 1, i + n) for n in left]),
                np.concatenate([self._span(i, i + n) for n in left]),
            )
            starts = np.cumsum([0, *(n - 1 for n in left[:-1])])
            known |= dict(zip(left, np.maximum.reduceat(off, starts).tolist(), strict=True))
        return known

    def _span(self, i: int, j: int) -> Floats:
        """What the span from sample i to j draws at the samples between, (j - i - 1, c)."""
        if self.curved and self.even and j - i <= _WEIGHED:
            if j - i not in self.weights:
                self.weights[j - i] = _curve_weights(j - i)
            return np.asarray(self.weights[j - i] @ self.values[i : j + 1])
        frames, values = self.track.frames[i : j + 1], self.values[i : j + 1]
        keys = fitted_keys(self.rule, self.channels, values, np.array([0, j - i]), frames)
        return _drawn_by(keys, frames[1:-1])

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


def _curve_weights(length: int) -> Floats:
    """The weights (length - 1, length + 1) by which a curved span over ``length`` evenly spaced samples draws those between its ends
    from all of them."""
    frames, samples = np.arange(length + 1.0), np.eye(length + 1)
    ends = np.stack([samples[0], samples[-1], *span_slopes(frames, samples, "bezier")])
    return np.asarray((hermite(frames[1:-1] / length) * [1, 1, length, length]) @ ends)


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


def _keys_between(fitted: _Fit, first: int, last: int, tolerance_px: float, progress: Progress) -> list[int]:
    """Keys from ``first`` to ``last``, both among them: each one as far from the one before as can be."""
    keys, at, reach = [first], first, 4
    while at < last:
        progress(at)
        search = _Search(last - at, 1, last - at + 1, max(2, reach))
        worst_px: dict[int, float] = {}
        while search.trial:
            if search.trial not in worst_px:
                worst_px |= fitted.worst_px(at, search.ahead() if fitted.curved else [search.trial])
            search = search.after(worst_px[search.trial] <= tolerance_px)
        at, reach = at + search.good, search.good
        keys.append(at)
    return keys


class _Search(NamedTuple):
    """The search for the longest span that keeps the picture, up to ``most`` samples: ``good`` samples keep it, ``bad`` samples do
    not. The length is doubled from ``step``, the length of the span before, until it fails, then halved between the two."""

    most: int
    good: int
    bad: int
    step: int

    @property
    def trial(self) -> int:
        """The length to try next; 0 once the longest is found."""
        if self.bad > self.most:
            return min(self.step, self.most) if self.good < self.most else 0
        return (self.good + self.bad) // 2 if self.bad - self.good > 1 else 0

    def after(self, kept: bool) -> _Search:
        trial = self.trial
        return self._replace(good=trial, step=2 * trial) if kept else self._replace(bad=trial)

    def ahead(self) -> list[int]:
        """The length to try next, with those that may follow: a few short ones are measured in hardly more time than one."""
        searches, lengths = [self], [self.trial]
        for _ in range(_AHEAD):
            searches = [s.after(kept) for s in searches for kept in (True, False) if s.trial]
            lengths += [s.trial for s in searches if s.trial]
        lengths = list(dict.fromkeys(lengths))
        return lengths if sum(lengths) <= _BLOCK else lengths[:1]


def _with_slopes(fitted: _Fit, index: Ints, tolerance_px: float) -> Keys:
    """The slopes of every span; the two of a key made one wherever both its spans stay within the tolerance."""
    broken = fitted_keys(fitted.rule, fitted.channels, fitted.values, index, fitted.track.frames)
    if not fitted.curved or len(index) < 3:
        return broken
    into, out = broken.slope_in, broken.slope_out
    cut = set(cuts_of(fitted.track).tolist())
    smooth = np.array([i not in cut and i + 1 not in cut for i in index.tolist()])
    smooth[[0, -1]] = False
    length = np.diff(broken.frames)[:, None]
    one = into.copy()
    one[1:-1] = (into[1:-1] * length[:-1] + out[1:-1] * length[1:]) / (length[:-1] + length[1:])
    span_of = np.clip(np.searchsorted(index, np.arange(len(fitted.track)), side="right") - 1, 0, len(index) - 2)
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
