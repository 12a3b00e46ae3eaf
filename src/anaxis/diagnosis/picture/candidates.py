"""What may have happened to a camera before a picture was taken: mistakes of time, of pose and of the lens, as cameras to
compare with the picture.

Each candidate carries its prior in nats: rarer causes, and those of many kinds, are less likely before the picture is seen.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from anaxis.core.camera.lens import FITS, Image
from anaxis.core.camera.projection import intrinsics_px
from anaxis.core.camera.track import Track
from anaxis.core.space.axes import ORDERS, Convention
from anaxis.core.time.rates import nearest_places, rate_text
from anaxis.core.typing import Floats, Ints
from anaxis.diagnosis.case import Case
from anaxis.diagnosis.pose import CHANNELS, FACTORS, LOOKS, TURNS, bases, named_turn
from anaxis.diagnosis.time import Cause
from anaxis.packages.habits import HABITS

# A cause of cost 1 is as likely as one in twelve.
NATS_A_COST = 2.5
# Frames that a picture may be late or early by, beside all others of the shot.
_NEAR = tuple(k for i in range(1, 11) for k in (i, -i))
_MOST_FRAMES = 300
_RATES = tuple(Fraction(r) for r in ("24", "25", "30", "60", "50", "48", "24000/1001", "30000/1001"))
# Factors between units that packages confuse, both ways.
KNOWN_FACTORS = tuple(dict.fromkeys((*FACTORS[1:], *(1 / f for f in FACTORS[1:]))))
# Film backs that packages have by default, width and height in mm.
FILM_DEFAULTS = (
    (36.0, 24.0), (36.0, 20.25), (25.4, 19.05), (23.76, 13.365), (24.576, 18.672), (21.946, 16.459), (20.955, 15.2908), (41.4214, 41.4214), (10.0, 10.0),
)  # fmt: skip
# Not a habit: how the receiving package inscribes the picture in the film back.
OTHER_FIT = "other_fit"


@dataclass(frozen=True, eq=False)
class PoseCandidate:
    """A mistake of pose done to the camera meant, on some of its frames. ``way`` tells apart those that have the same
    causes."""

    causes: tuple[Cause, ...]
    prior: float
    track: Track
    way: int = 0


@dataclass(frozen=True, eq=False)
class TimeCandidate:
    """A mistake of time: for every picture, the place among the frames looked at that it shows; -1 for one of unknown frame."""

    causes: tuple[Cause, ...]
    prior: float
    at: Ints


@dataclass(frozen=True, eq=False)
class LensCandidate:
    """A mistake of the lens: what of the picture is other, as focal lengths and principal points (n, 4) on the frames looked at."""

    causes: tuple[Cause, ...]
    prior: float
    intrinsics: Floats


def prior_of(causes: tuple[Cause, ...], kinds: int = 1) -> float:
    """The prior of causes, one of ``kinds`` alike, in nats."""
    cost = sum(HABITS[code].cost if code in HABITS else 1.2 for code, _ in causes)
    return -NATS_A_COST * cost - float(np.log(kinds))


def frames_looked_at(meant: Track, asked: list[float | None]) -> Ints:
    """Places of the meant track that a search looks at first: the first one, those about each picture's frame, and some over
    all of the range."""
    n = len(meant)
    wanted: list[Ints] = [
        np.zeros(1, dtype=np.int64),
        np.unique(np.linspace(0, n - 1, min(n, _MOST_FRAMES)).round().astype(np.int64)),
    ]
    for frame in asked:
        if frame is not None:
            place = int(nearest_places(meant.frames, np.array([frame]))[0])
            wanted.append(np.arange(max(0, place - _NEAR[-2] - 2), min(n, place + _NEAR[-2] + 3)))
            for ratio in _ratios(meant):
                wanted.append(nearest_places(meant.frames, np.array([frame * ratio])))
    return np.unique(np.concatenate(wanted))


def _ratios(meant: Track) -> list[float]:
    return [float(meant.rate / r) for r in _RATES if r != meant.rate]


def times(meant: Track, looked: Ints, asked: list[float | None]) -> Iterator[TimeCandidate]:
    """Which frames the pictures may show. ``asked`` are the frames that were said, None where one is unknown."""
    own = meant.frames[looked]
    known = [f for f in asked if f is not None]

    def at(frames: list[float | None]) -> Ints | None:
        places = []
        for frame in frames:
            if frame is None:
                places.append(-1)
            elif not own[0] - 0.5 <= frame <= own[-1] + 0.5:
                return None
            else:
                places.append(int(np.abs(own - frame).argmin()))
        return np.array(places)

    def candidate(causes: tuple[Cause, ...], prior: float, frames: list[float | None]) -> Iterator[TimeCandidate]:
        places = at(frames)
        if places is not None:
            yield TimeCandidate(causes, prior, places)

    yield from candidate((), 0.0, asked)
    if len(meant) > 1:
        only_first: tuple[Cause, ...] = (("only_first", {}),)
        yield TimeCandidate(only_first, prior_of(only_first), np.zeros(len(asked), dtype=np.int64))
    if not known:
        return
    for near in _NEAR:
        k = float(near)
        causes: tuple[Cause, ...] = (("frame_offset", {"frames": k}),)
        prior = prior_of(causes, 2) - 0.7 * float(np.log(abs(k))) - 0.3
        yield from candidate(causes, prior, [None if f is None else f - k for f in asked])
    for first in dict.fromkeys((0.0, 1.0)):
        if first != meant.frames[0]:
            shift = meant.frames[0] - first
            if abs(shift) > _NEAR[-2]:
                causes = (("own_first", {"first": first}),)
                yield from candidate(causes, prior_of(causes, 2), [None if f is None else f + shift for f in asked])
    for rate in _RATES:
        if rate != meant.rate:
            ratio, causes = float(meant.rate / rate), (("own_rate", {"rate": rate_text(rate)}),)
            yield from candidate(
                causes, prior_of(causes, len(_RATES)), [None if f is None else f * ratio for f in asked]
            )
    if len(asked) == 1:  # one picture may show any frame
        for place in range(len(own)):
            k = float(known[0] - own[place])
            if abs(k) > 10:
                causes = (("frame_offset", {"frames": k}),)
                yield TimeCandidate(causes, prior_of(causes) - 2.0 - float(np.log(len(meant))), np.array([place]))


def poses(case: Case, track: Track, bare: tuple[Track, ...]) -> Iterator[PoseCandidate]:
    """What may have been done to the world and the camera's axes, on all frames of ``track``."""
    convention = case.convention
    for way, (causes, _, moved) in enumerate(bases(case, track, bare)):
        kinds = 3 if causes and causes[0][0] == "mirror" else 1
        yield PoseCandidate(causes, prior_of(causes, kinds), moved, way=way)
    for turn in TURNS[1:]:
        named, _, exact = named_turn(turn, convention)
        turned = replace(track, position_m=track.position_m @ exact.T, rotation=exact @ track.rotation)
        single = len(named) == 1
        yield PoseCandidate(tuple(named), prior_of(tuple(named[:1]), 9 if single else 60) - 1.0 * (not single), turned)
    for matrix, (look, up) in LOOKS.items():
        turn = np.frombuffer(matrix, dtype=int).reshape(3, 3).astype(np.float64)
        if np.array_equal(turn, np.eye(3)):
            continue
        causes = (("look_axis", {"look": look, "up": up}),)
        yield PoseCandidate(causes, prior_of(causes, 23), replace(track, rotation=track.rotation @ turn))
    for written in ORDERS:
        for read in ORDERS:
            if written != read:
                causes = (("rotation_order", {"written": written, "read": read}),)
                kinds = 5 if written == convention.order else 100
                yield PoseCandidate(causes, prior_of(causes, kinds), _arrived(case, track, causes, convention))
    plain = CHANNELS[0]
    ways = [(c, plain) for c in CHANNELS] + [(plain, c) for c in CHANNELS] + [(c, c) for c in CHANNELS]
    for position, rotation in ways:
        if (position, rotation) != (plain, plain):
            causes = (("channels", {"position": position, "rotation": rotation}),)
            yield PoseCandidate(causes, prior_of(causes, 141), _arrived(case, track, causes, convention))


def _arrived(case: Case, track: Track, causes: tuple[Cause, ...], convention: Convention) -> Track:
    arriving = case.arriving(track)
    for code, params in causes:
        arriving = HABITS[code].arrive(arriving, params, convention)
    return arriving.track


def lenses(track: Track, image: Image, fit: str) -> Iterator[LensCandidate]:
    """What may have been done to the lens, where no number is free. The first is the lens as meant."""
    n, lens = len(track), track.lens
    plain = intrinsics_px(lens, image, fit)
    yield LensCandidate((), 0.0, plain)
    used = lens.used(image, fit)
    vertical = plain.copy()
    vertical[:, :2] *= (used.width_mm / used.height_mm)[:, None]
    yield _lens((("vfov_as_hfov", {}),), 1, vertical)
    nothing = np.zeros(n)
    middle = intrinsics_px(replace(lens, offset_x_mm=nothing, offset_y_mm=nothing), image, fit)
    if np.abs(middle - plain).max() > 0.1:
        yield _lens((("no_offsets", {}),), 1, middle)
    first = np.zeros(n, dtype=np.int64)
    held = intrinsics_px(lens.select_frames(first), image, fit)
    if np.abs(held - plain).max() > 0.1:
        yield _lens((("no_lens_animation", {}),), 1, held)
    for other in FITS:
        if other != fit:
            seen = intrinsics_px(lens, image, other)
            if np.abs(seen - plain).max() > 0.1:
                yield _lens(((OTHER_FIT, {"fit": other}),), 4, seen)
    for width, height in FILM_DEFAULTS:
        film = replace(lens, film_width_mm=np.full(n, width), film_height_mm=np.full(n, height), squeeze=np.ones(n))
        seen = intrinsics_px(film, image, fit)
        if np.abs(seen - plain).max() > 0.1:
            yield _lens((("film_default", {"width_mm": width, "height_mm": height}),), len(FILM_DEFAULTS), seen)
    for factor in KNOWN_FACTORS:
        yield _lens((("film_factor", {"factor": factor}),), 2 * len(FACTORS), on_film(plain, image, factor))


def on_film(intrinsics: Floats, image: Image, factor: float) -> Floats:
    """Intrinsics (n, 4) on a film back ``factor`` times as large: its offsets stay as many millimetres."""
    middle = np.array([image.width_px, image.height_px]) / 2
    seen = intrinsics.copy()
    seen[:, :2] /= factor
    seen[:, 2:] = middle + (seen[:, 2:] - middle) / factor
    return seen


def _lens(causes: tuple[Cause, ...], kinds: int, intrinsics: Floats) -> LensCandidate:
    return LensCandidate(causes, prior_of(causes, kinds), intrinsics)
