"""What shots really look like, made up: the matrix that every feature runs through. Plain numpy and scipy.

Each maker gives a :class:`Shot`: positions, rotations and lens on its frames, known at any time in between where the
motion is. Nothing here asks the product for anything; only :func:`track_of` hands a shot over to it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from lanes import sized

Array = np.ndarray[Any, np.dtype[Any]]


@dataclass(frozen=True, eq=False)
class Shot:
    """``at(frames)`` gives positions (n, 3) m, rotations (n, 3, 3) camera to world, focal lengths (n,) mm."""

    name: str
    frames: Array
    at: Callable[[Array], tuple[Array, Array, Array]]
    rate: str = "24"
    width_px: int = 1920
    height_px: int = 1080
    film_mm: tuple[float, float] = (36.0, 20.25)
    focus_m: float | None = 6.0
    marks: dict[str, Callable[[Array], Array]] = field(default_factory=dict)

    @property
    def samples(self) -> tuple[Array, Array, Array]:
        return self.at(self.frames)


def turns(yaw_deg: ArrayLike, pitch_deg: ArrayLike, roll_deg: ArrayLike) -> Array:
    """Rotations (n, 3, 3): yaw about up, then pitch, then roll, written out."""
    y, p, r = (np.radians(np.asarray(a, dtype=np.float64)) for a in np.broadcast_arrays(yaw_deg, pitch_deg, roll_deg))
    cy, sy, cp, sp, cr, sr = np.cos(y), np.sin(y), np.cos(p), np.sin(p), np.cos(r), np.sin(r)
    out = np.empty((*y.shape, 3, 3))
    out[..., 0, 0], out[..., 0, 1], out[..., 0, 2] = cy * cr + sy * sp * sr, -cy * sr + sy * sp * cr, sy * cp
    out[..., 1, 0], out[..., 1, 1], out[..., 1, 2] = cp * sr, cp * cr, -sp
    out[..., 2, 0], out[..., 2, 1], out[..., 2, 2] = -sy * cr + cy * sp * sr, sy * sr + cy * sp * cr, cy * cp
    return out


def ease(share: Array) -> Array:
    """0 to 1 with a start and an end that are smooth."""
    u = np.clip(share, 0.0, 1.0)
    return u * u * (3 - 2 * u)


def line(frames: Array, x: Array, y: Array | float = 1.7, z: Array | float = 6.0) -> Array:
    return np.stack(np.broadcast_arrays(np.asarray(x, dtype=np.float64), y, z), axis=1)


def _flat(frames: Array, value: float) -> Array:
    return np.full(len(frames), value)


def _of(pose: Callable[[Array], tuple[Array, Array]], focal: Callable[[Array], Array] | float = 35.0) -> Any:
    def at(frames: Array) -> tuple[Array, Array, Array]:
        place, turn = pose(frames)
        return place, turn, focal(frames) if callable(focal) else _flat(frames, focal)

    return at


def still(first: float = 1001, count: int = 48) -> Shot:
    """A locked-off camera."""
    return Shot(
        "still", first + np.arange(count), _of(lambda f: (line(f, _flat(f, 1.0)), turns(_flat(f, 12), -4, 0.5)))
    )


def held(first: float = 1001, count: int = 96) -> Shot:
    """Two thirds of a hold, then an eased move."""

    def pose(f: Array) -> tuple[Array, Array]:
        go = ease((f - first - 62) / 33)
        return line(f, 2.0 * go, 1.7 + 0.2 * go), turns(25 * go, -4, 0)

    return Shot("held", first + np.arange(count), _of(pose))


def whip(first: float = 1001, count: int = 96, degrees: float = 120.0, over: float = 6.0) -> Shot:
    """A slow push with a whip pan in the middle of it."""

    def pose(f: Array) -> tuple[Array, Array]:
        go = (f - first) / 24
        return line(f, 0.1 * go, 1.7, 6 - 0.2 * go), turns(degrees * ease((f - first - 45) / over) + 0.4 * go, -3, 0)

    return Shot("whip", first + np.arange(count), _of(pose))


def primes(first: float = 1001, count: int = 72) -> Shot:
    """A lens changed from 35 to 85 mm, and back to 50."""

    def focal(f: Array) -> Array:
        return np.where(f < first + 24, 35.0, np.where(f < first + 50, 85.0, 50.0))

    def pose(f: Array) -> tuple[Array, Array]:
        go = (f - first) / 24
        return line(f, np.sin(0.5 * go), 1.7, 6 - 0.3 * go), turns(6 * np.sin(go), -2, 0)

    return Shot("primes", first + np.arange(count), _of(pose, focal))


def jitter(first: float = 1001, count: int = 120, seed: int = 3) -> Shot:
    """Hand-held: a sway, and noise on every frame that nothing predicts."""
    frames = first + np.arange(count)
    noise = np.random.default_rng(seed).normal(size=(count, 6)) * [0.004, 0.004, 0.004, 0.25, 0.25, 0.1]

    def pose(f: Array) -> tuple[Array, Array]:
        n = np.stack([np.interp(f, frames, c) for c in noise.T], axis=1)
        go = (f - first) / 24
        sway = np.stack([0.3 * go + n[:, 0], 1.7 + 0.02 * np.sin(5 * go) + n[:, 1], 6 + n[:, 2]], axis=1)
        return sway, turns(8 * np.sin(0.8 * go) + n[:, 3], -3 + n[:, 4], n[:, 5])

    return Shot("jitter", frames, _of(pose))


def smooth(first: float = 1001, count: int = 72, out_m: float = 0.0, **more: Any) -> Shot:
    """A crane move that is known at any time."""

    def pose(f: Array) -> tuple[Array, Array]:
        go = (f - first) / 24
        place = line(f, out_m + 1.2 * np.sin(go), 1.7 + 0.4 * go, 6 - 0.5 * go)
        return place, turns(14 * np.sin(0.9 * go), -4 + 2 * go, np.sin(go))

    return Shot(
        more.pop("name", "smooth"),
        first + np.arange(count),
        _of(pose, lambda f: 35 + 3 * ease((f - first) / count)),
        **more,
    )


def zoomless(first: float = 1001, count: int = 72, out_m: float = 0.0, **more: Any) -> Shot:
    """The same move on a prime lens."""
    shot = smooth(first, count, out_m, **more)
    return Shot(**{**shot.__dict__, "at": lambda f: (*shot.at(f)[:2], _flat(f, 35.0))})


def subframes(first: float = 1001, count: int = 36) -> Shot:
    """Baked on half frames, for motion blur."""
    base = zoomless(first, count)
    return Shot(**{**base.__dict__, "name": "subframes", "frames": first + np.arange(2 * count - 1) / 2})


def moving_marks(first: float = 1001, count: int = 48) -> Shot:
    base = zoomless(first, count)
    boat = lambda f: np.stack([(f - first) / 24 * 2.0, 0.0 * f, -4 - (f - first) / 24], axis=1)  # noqa: E731
    post = lambda f: np.tile([2.0, 1.0, -3.0], (len(f), 1))  # noqa: E731
    return Shot(**{**base.__dict__, "name": "moving_marks", "marks": {"ferry": boat, "post": post}})


SHOTS: dict[str, Callable[[], Shot]] = {
    "still": still,
    "held": held,
    "whip": whip,
    "primes": primes,
    "jitter": jitter,
    "subframes": subframes,
    "frame_86400": lambda: zoomless(86400, 60, name="frame_86400"),
    "frame_minus_20": lambda: zoomless(-20, 60, name="frame_minus_20"),
    "moving_marks": moving_marks,
    "far_out": lambda: zoomless(1001, 48, out_m=5000.0, name="far_out"),
    "focus_far": lambda: zoomless(1001, 48, name="focus_far", focus_m=1e6),
    "portrait": lambda: zoomless(1001, 48, name="portrait", width_px=1080, height_px=1920, film_mm=(13.5, 24.0)),
    "three": lambda: zoomless(1001, 3, name="three"),
    "long": lambda: zoomless(1001, sized(12_000, 6_600), name="long"),
}


def pixels(shot: Shot, frames: Array, points_m: Array, width_px: int = 0) -> tuple[Array, Array]:
    """Where points (m, 3) or (n, m, 3) are seen, (n, m, 2) px, and their depths (n, m), by the plain pinhole sum."""
    place, turn, focal = shot.at(frames)
    points = np.broadcast_to(points_m, (len(frames), *np.shape(points_m)[-2:]))
    seen = np.einsum("nji,nmj->nmi", turn, points - place[:, None, :])
    depth = -seen[..., 2]
    w = width_px or shot.width_px
    h = w * shot.height_px / shot.width_px
    high = shot.film_mm[0] * h / w
    x = w * (0.5 + focal[:, None] * seen[..., 0] / depth / shot.film_mm[0])
    y = h * (0.5 - focal[:, None] * seen[..., 1] / depth / high)
    return np.stack([x, y], axis=-1), depth


def points_ahead(shot: Shot, frames: Array, depths_m: tuple[float, ...] = (2.0, 6.0, 60.0)) -> Array:
    """A few points in the picture at known depths on every frame, (n, m, 3)."""
    place, turn, focal = shot.at(frames)
    out = []
    for depth in depths_m:
        for x in (-0.4, 0.0, 0.4):
            for y in (-0.2, 0.2):
                ray = np.stack([x * shot.film_mm[0] / focal, y * shot.film_mm[0] / focal, -np.ones_like(focal)], axis=1)
                out.append(place + depth * np.einsum("nij,nj->ni", turn, ray))
    return np.stack(out, axis=1)


def track_of(shot: Shot) -> Any:
    """The shot as the product's own track."""
    from fractions import Fraction

    from anaxis.core.camera.track import Track, make_lens

    place, turn, focal = shot.samples
    lens = make_lens(
        len(shot.frames),
        focal_mm=focal,
        film_width_mm=shot.film_mm[0],
        film_height_mm=shot.film_mm[1],
        focus_m=np.nan if shot.focus_m is None else shot.focus_m,
    )
    return Track(shot.name, shot.frames.astype(np.float64), Fraction(shot.rate), place, turn, lens)


def landmarks_of_shot(shot: Shot) -> Any:
    from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks

    if not shot.marks:
        return NO_LANDMARKS
    return Landmarks(tuple(shot.marks), np.stack([at(shot.frames) for at in shot.marks.values()], axis=1))
