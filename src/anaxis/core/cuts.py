"""Where a motion breaks: steps from one frame to the next that are far out of proportion to the others."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.timing import format_frame
from anaxis.core.track import Track
from anaxis.core.tree import angle_between_deg
from anaxis.core.typing import Floats, Ints

# A step this many times the usual one, and not small in itself, is no move of a camera.
LEAP = 25.0
LEAP_M = 0.05
LEAP_DEG = 5.0


class Steps(NamedTuple):
    """From each frame to the next: ``metres`` and ``degrees``, (n - 1,) each."""

    metres: Floats
    degrees: Floats


def steps_of(track: Track) -> Steps | None:
    """The steps of a track; None where they cannot be told: under four frames, or samples that are no numbers."""
    if len(track) < 4 or not np.isfinite(track.position_m).all() or not np.isfinite(track.rotation).all():
        return None
    metres = np.linalg.norm(np.diff(track.position_m, axis=0), axis=1)
    return Steps(metres, angle_between_deg(track.rotation[:-1], track.rotation[1:]))


def leaps(steps: Floats, least: float) -> Ints:
    """The places before each step that is far out of proportion, (k,)."""
    return np.flatnonzero(steps > max(LEAP * float(np.median(steps)), least))


def cuts_of(track: Track) -> Ints:
    """The places (k,) of the samples that begin something new: leaps of place or turn, and what a person marked."""
    found = found_cuts(track)
    if track.marked is None:
        return found
    found = np.union1d(found, np.flatnonzero(track.marked > 0))
    found = np.setdiff1d(found, np.flatnonzero(track.marked < 0))
    return found[found > 0]


def found_cuts(track: Track) -> Ints:
    """The places (k,) behind leaps of place or turn, whatever anybody has marked."""
    steps = steps_of(track)
    if steps is None:
        return np.zeros(0, dtype=np.int64)
    return np.union1d(leaps(steps.metres, LEAP_M), leaps(steps.degrees, LEAP_DEG)) + 1


def with_mark(track: Track, frame: float, cut: bool) -> Track:
    """The track with a cut marked before ``frame``, or a leap there said to be none. Raises BadInput without that frame."""
    at = np.flatnonzero(np.abs(track.frames - frame) < 1e-6)
    if not len(at) or at[0] == 0:
        raise BadInput(
            f"No cut can lie before frame {format_frame(frame)}: '{track.name}' runs from "
            f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])}, and a cut has frames on both sides."
        )
    marked = np.zeros(len(track), dtype=np.int64) if track.marked is None else track.marked.copy()
    marked[at[0]] = 1 if cut else -1
    return replace(track, marked=marked)
