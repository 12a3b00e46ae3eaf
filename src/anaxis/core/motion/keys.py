"""Keys of a motion, and what a receiver draws between them, channel by channel: its position, its angles (or quaternions) and
those of its lens that vary. Between curved keys it is a cubic Hermite curve, whose handles lie a third of the span away in time.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.track import Track
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.typing import Floats, Ints

Interpolation = Literal["linear", "bezier"]
Turns = Literal["angles", "quaternions"]


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


def span_slopes(frames: Floats, values: Floats, interpolation: str) -> tuple[Floats, Floats]:
    """Slopes (c,) at both ends of one span through samples ``values`` (m, c) at ``frames`` (m,), in the least squares."""
    span = frames[-1] - frames[0]
    chord = (values[-1] - values[0]) / span
    if interpolation == "linear" or len(frames) < 3:
        return chord, chord
    basis = hermite((frames[1:-1] - frames[0]) / span)
    rest = values[1:-1] - basis[:, :1] * values[0] - basis[:, 1:2] * values[-1]
    if len(frames) == 3:  # one sample cannot settle two slopes: the smallest change from the chord
        rest = rest - (basis[:, 2:] * span) @ np.stack([chord, chord])
        found = np.linalg.lstsq(basis[:, 2:] * span, rest, rcond=None)[0]
        return chord + found[0], chord + found[1]
    found = np.linalg.lstsq(basis[:, 2:] * span, rest, rcond=None)[0]
    return found[0], found[1]


def hermite(u: Floats) -> Floats:
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
    basis = hermite(u)
    return np.asarray(
        basis[:, :1] * values[span]
        + basis[:, 1:2] * values[span + 1]
        + length * (basis[:, 2:3] * slope_out[span] + basis[:, 3:] * slope_in[span + 1])
    )


def fitted_keys(rule: KeyRule, channels: tuple[str, ...], values: Floats, index: Ints, frames: Floats) -> Keys:
    """Keys at the places ``index`` (k,) among samples ``values`` (n, c) at ``frames`` (n,), with slopes fitted to each span alone."""
    k, c = len(index), len(channels)
    into, out = np.zeros((k, c)), np.zeros((k, c))
    for s in range(k - 1):
        span = slice(int(index[s]), int(index[s + 1]) + 1)
        out[s], into[s + 1] = span_slopes(frames[span], values[span], rule.interpolation)
    if k > 1:
        into[0], out[-1] = out[0], into[-1]
    return Keys(rule, channels, index, frames[index], values[index], into, out)


def rekeyed(keys: Keys, track: Track) -> Keys:
    """The keys on the same places of another track: its own values, slopes fitted to it anew."""
    return fitted_keys(keys.rule, *channels_of(track, keys.rule), keys.index, track.frames)
