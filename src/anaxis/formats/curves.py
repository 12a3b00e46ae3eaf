"""Animation curves as files write them, evaluated at many frames at once.

All take the keys' frames (k,), rising, and the frames to evaluate (n,); before the first key and
after the last the value is held.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.typing import Floats, Ints


class CurvePlace(NamedTuple):
    """Between which keys each frame lies: ``left`` (n,) and how far, ``share`` (n,) in 0..1."""

    left: Ints
    right: Ints
    share: Floats
    span: Floats


def place(keys: Floats, frames: Floats) -> CurvePlace:
    at = np.clip(frames, keys[0], keys[-1])
    right = np.clip(np.searchsorted(keys, at, side="right"), 1, max(1, len(keys) - 1))
    right = np.minimum(right, len(keys) - 1)
    left = np.maximum(right - 1, 0)
    span = keys[right] - keys[left]
    share = np.divide(at - keys[left], span, out=np.zeros_like(at), where=span > 0)
    return CurvePlace(left, right, share, span)


def step(keys: Floats, values: Floats, frames: Floats) -> Floats:
    """The value of the last key at or before each frame; values (k, ...)."""
    return values[np.clip(np.searchsorted(keys, frames + 1e-9, side="right") - 1, 0, len(keys) - 1)]


def linear(keys: Floats, values: Floats, frames: Floats) -> Floats:
    """Straight lines between keys; values (k, c)."""
    p = place(keys, frames)
    share = p.share[:, None]
    return (1 - share) * values[p.left] + share * values[p.right]


def slerp(keys: Floats, quaternions: Floats, frames: Floats) -> Floats:
    """Shortest arcs between unit quaternions (k, 4), scalar last; returns (n, 4)."""
    if len(keys) == 1:
        return np.repeat(quaternions, len(frames), axis=0)
    turns = scipy.spatial.transform.Slerp(keys, scipy.spatial.transform.Rotation.from_quat(quaternions))
    return np.asarray(turns(np.clip(frames, keys[0], keys[-1])).as_quat())


def hermite(keys: Floats, values: Floats, incoming: Floats, outgoing: Floats, frames: Floats) -> Floats:
    """Cubic Hermite spline, tangents in values per frame (glTF 2.0, appendix C); all (k, c)."""
    p = place(keys, frames)
    t, span = p.share[:, None], p.span[:, None]
    return (
        (2 * t**3 - 3 * t**2 + 1) * values[p.left]
        + span * (t**3 - 2 * t**2 + t) * outgoing[p.left]
        + (-2 * t**3 + 3 * t**2) * values[p.right]
        + span * (t**3 - t**2) * incoming[p.right]
    )


def bezier(keys: Floats, values: Floats, before: Floats, after: Floats, frames: Floats) -> Floats:
    """Cubic Bezier curve through keys with handles in frame and value.

    Parameters:
        values: (k,). before, after: (k, 2) the handles (frame, value) in front of and behind each
            key. A handle outside its span is brought to the span's end, so that time never turns.
    """
    p = place(keys, frames)
    x0, x3 = keys[p.left], keys[p.right]
    x1 = np.clip(after[p.left, 0], x0, x3)
    x2 = np.clip(before[p.right, 0], x0, x3)
    at = np.clip(frames, keys[0], keys[-1])
    low, high = np.zeros_like(at), np.ones_like(at)
    for _ in range(54):  # halving: one bit of a double each time, and no slope to divide by
        middle = (low + high) / 2
        early = _cubic(x0, x1, x2, x3, middle) < at
        low, high = np.where(early, middle, low), np.where(early, high, middle)
    s = (low + high) / 2
    exact = np.isin(at, keys)
    out = _cubic(values[p.left], after[p.left, 1], before[p.right, 1], values[p.right], s)
    return np.where(exact, values[np.clip(np.searchsorted(keys, at), 0, len(keys) - 1)], out)


def _cubic(a: Floats, b: Floats, c: Floats, d: Floats, t: Floats) -> Floats:
    u = 1 - t
    return u**3 * a + 3 * u**2 * t * b + 3 * u * t**2 * c + t**3 * d
