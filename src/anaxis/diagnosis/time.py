"""Which sample of the camera meant is behind each frame that arrived: the mistakes of time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.time.rates import rate_text
from anaxis.core.typing import Floats, Ints
from anaxis.packages.habits import HABITS

Cause = tuple[str, dict[str, Any]]
_OFFSETS = (1, -1, 2, -2, 3, -3, 4, -4, 5, -5, 6, -6, 8, -8, 10, -10)
_MOVES = 1e-7
# A first frame of its own is 0 or 1 in most packages that have one.
_RARER = {"own_first": 0.3}
# An explanation covers at least so much of the frames both cameras have; what it leaves out costs.
MOST = 0.55
_UNCOVERED = 2.0


@dataclass(frozen=True, eq=False)
class Timing:
    """``arrived_at`` (m,) places in what arrived, ``meant_frames`` (m,) the frames of the camera meant behind them.

    ``share`` of the frames that both cameras have is covered; ``straight`` says that the package drew straight lines
    between the frames it had.
    """

    causes: tuple[Cause, ...]
    cost: float
    arrived_at: Ints
    meant_frames: Floats
    share: float = 1.0
    straight: bool = False


def timings_of(meant: Track, arrived: Track, typed: bool = False) -> Iterator[Timing]:
    """The mistakes of time that could be, commonest first; those without a frame in common are left out.

    Of frames that somebody ``typed`` those that are not there say nothing: nobody types all of them.
    """
    yield from sorted(_timings(meant, arrived, typed), key=lambda t: t.cost)


def _timings(meant: Track, arrived: Track, typed: bool) -> Iterator[Timing]:
    tried = set()
    both = min(len(meant), len(arrived))
    for causes, frames in _ways(meant, arrived):
        key = str(causes)
        inside = np.flatnonzero((frames >= meant.frames[0] - 1e-6) & (frames <= meant.frames[-1] + 1e-6))
        if key in tried or not len(inside):
            continue
        tried.add(key)
        # Samples that lie further apart than a frame are not all there is, wherever they end.
        sparse = (
            typed
            or (len(arrived) == 1 and _still_from(meant) == 0)
            or (len(arrived) > 1 and float(np.median(np.diff(arrived.frames))) > 1.5)
        )
        short = not sparse and frames[-1] < meant.frames[-1] - 0.5 and frames[0] <= meant.frames[0] + 0.5
        if short and not any(code in ("first_keys", "only_first", "own_rate") for code, _ in causes):
            causes = (*causes, ("first_keys", {"count": float(len(inside))}))
        cost = sum(
            HABITS[code].cost + _RARER.get(code, 0.0) * (params.get("first") not in (0.0, 1.0))
            for code, params in causes
        )
        share = len(inside) / both
        if share < MOST:
            continue  # what says nothing of most of the camera explains nothing
        at = np.clip(frames[inside], meant.frames[0], meant.frames[-1])
        cost += _UNCOVERED * (1 - min(1.0, share))
        yield Timing(causes, cost, inside, at, share)
        if any(code == "own_rate" for code, _ in causes):
            yield Timing(causes, cost + 0.05, inside, at, share, straight=True)


def _ways(meant: Track, arrived: Track) -> Iterator[tuple[tuple[Cause, ...], Floats]]:
    """Causes, and for every frame that arrived the frame meant that it shows."""
    own = arrived.frames
    first = float(own[0])
    if _still_from(meant) == 0:  # it looks the same whenever: only where its frames begin and end can be told
        if len(own) == 1:
            yield (), meant.frames[:1]
            return
        yield (), own
        if first != meant.frames[0]:
            yield (("own_first", {"first": first}),), own - first + meant.frames[0]
            offset = first - meant.frames[0]
            if offset in _OFFSETS and len(own) == len(meant):
                yield (("frame_offset", {"frames": offset}),), own - offset
        return
    still = _still_from(arrived)
    moving = _still_from(meant) > 0
    if moving and still == 0 and len(own):
        yield (("only_first", {}),), np.full(len(own), meant.frames[0])
    if meant.frames[0] < 0 <= first:
        yield (("no_negative", {}),), own
    yield (), own
    if first != meant.frames[0]:
        yield (("own_first", {"first": first}),), own - first + meant.frames[0]
    if moving and 0 < still < len(own) - 1:
        # Held from here on: the keys up to it are all that arrived, under whatever numbering.
        count = {"count": float(still + 1)}
        for causes, frames in (((), own), ((("own_first", {"first": first}),), own - first + meant.frames[0])):
            last = frames[still]
            yield (*causes, ("first_keys", count)), np.minimum(frames, last)
    for offset in _OFFSETS:
        yield (("frame_offset", {"frames": float(offset)}),), own - offset
    for rate in _rates(meant, arrived):
        ratio = float(meant.rate / rate)
        cause: Cause = ("own_rate", {"rate": rate_text(rate)})
        yield (cause,), own * ratio
        yield (cause, ("own_first", {"first": first})), (own - first) * ratio + meant.frames[0]
        for offset in (1, -1):
            yield (cause, ("frame_offset", {"frames": float(offset)})), (own - offset) * ratio


def _rates(meant: Track, arrived: Track) -> list[Fraction]:
    # The rates that packages have of their own; one that is stranger is the one the file came back at.
    usual = [Fraction(r) for r in ("24", "25", "30", "60", "50", "48", "24000/1001", "30000/1001")]
    listed = [arrived.rate, *usual]
    return [r for r in dict.fromkeys(listed) if r != meant.rate]


def _still_from(track: Track) -> int:
    """The place of the last sample that differs from the last one, plus one: 0 where nothing moves at all."""
    last = np.concatenate([track.position_m[-1], track.rotation[-1].ravel(), track.lens.focal_mm[-1:]])
    every = np.concatenate(
        [track.position_m, track.rotation.reshape(len(track), 9), track.lens.focal_mm[:, None]], axis=1
    )
    moves = np.abs(every - last).max(axis=1) > _MOVES * (1 + np.abs(last).max())
    return int(np.flatnonzero(moves)[-1]) + 1 if moves.any() else 0
