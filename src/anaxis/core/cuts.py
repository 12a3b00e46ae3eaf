"""Where a motion breaks: steps from one frame to the next that are far out of proportion to the others."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

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
    """The places (k,) of the samples that begin something new: leaps of place or turn."""
    steps = steps_of(track)
    if steps is None:
        return np.zeros(0, dtype=np.int64)
    return np.union1d(leaps(steps.metres, LEAP_M), leaps(steps.degrees, LEAP_DEG)) + 1
