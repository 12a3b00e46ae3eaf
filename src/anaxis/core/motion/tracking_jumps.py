"""Where a tracker found that it stands elsewhere than it thought, and the recording with such a jump removed.

At a jump the motion before and the motion behind do not meet: each side is continued by a polynomial to the middle of the step,
and the difference of the two is the *mismatch*, in metres and in degrees about up (a tracker knows up from gravity). Noise and
an unsteady hand make a mismatch too. How large is measured in the same recording: at steps of the same length where nothing
is missing, or, for a gap, across stretches of the same length whose samples are left out. A jump is a mismatch well above that
and above what a change of speed within the step explains. Below it, a jump looks like motion.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import breaks_of
from anaxis.core.motion.samples import Samples
from anaxis.core.typing import Bools, Floats, Ints

# Samples on either side that say where the motion was going, and the share of a gap that they reach over at least.
_BESIDE, _SHARE_OF_GAP = 8, 0.67
# A jump is so many times the mismatch that nine of ten undisturbed places stay below.
_ABOVE = 5.0
_PERCENTILE = 90
# No jump is smaller, however quiet a recording is: metres, degrees.
_LEAST_M, _LEAST_DEG = 0.005, 0.2
# Undisturbed places that are measured for each length of gap: at least, at most.
_FEWEST, _MOST = 20, 400
# Samples that one side of a jump has at least.
_FEWEST_BESIDE = 4
# A gap of so many samples may hold a jump of its own: what is usual is measured elsewhere.
_DISTURBS = 3
# The usual step may differ by so much from a step of the same number of samples.
_SAME_LENGTH = 1.3


class Jump(NamedTuple):
    """The place of the first sample behind a jump, when that is, and how far the camera jumps: metres, and degrees about up."""

    place: int
    at_s: float
    metres: float
    degrees: float


class SmallestJump(NamedTuple):
    """The smallest jump that can be found across a gap that begins at ``start_s``; None where the recording is too short."""

    start_s: float
    gap_s: float
    metres: float | None
    degrees: float | None


class _Reach(NamedTuple):
    """How many samples on either side a polynomial of a degree is fitted to."""

    samples: int
    degree: int


class _Mismatch(NamedTuple):
    """(k,) each: between the two continued motions, and what their difference of speed makes of half the step."""

    metres: Floats
    degrees: Floats
    by_speed_m: Floats
    by_speed_deg: Floats


class _Usual(NamedTuple):
    """The mismatch that undisturbed places of one length stay below, and the fit it was measured with."""

    reach: _Reach
    metres: float
    degrees: float


def jumps_of(samples: Samples) -> list[Jump]:
    """The jumps of a recording, in gaps as between two samples."""
    strays, sudden = _strays_and_breaks(samples)
    left = np.setdiff1d(np.arange(len(samples)), strays)
    kept = samples if not len(strays) else samples.select_frames(left)
    found = {int(left[p]): j for p, j in _found(kept).items()}
    usual = _UsualMismatch(samples, sudden.tolist())
    for place in sudden.tolist():  # two jumps beside each other are too near for any fit
        if all(abs(place - p) > _BESIDE for p in found):
            seen = _mismatch(samples, *_ends(place), usual.reach_at(place))
            found[place] = Jump(place, float(samples.seconds[place]), float(seen.metres[0]), float(seen.degrees[0]))
    return [found[p]._replace(place=p) for p in sorted(found)]


def smallest_jumps(samples: Samples, jumps: list[Jump], longer_s: float = 0.1) -> list[SmallestJump]:
    """The smallest jump that can be found in each gap longer than a tenth of a second."""
    steps = np.diff(samples.seconds)
    usual = _UsualMismatch(samples, [j.place for j in jumps])
    out = []
    for place in np.flatnonzero(steps > longer_s).tolist():
        known = usual.of(int(samples.missing[place]))
        least = (None, None) if known is None else (known.metres, known.degrees)
        out.append(SmallestJump(float(samples.seconds[place]), float(steps[place]), *least))
    return out


def healed(samples: Samples, places: list[int]) -> Samples:
    """The samples with jumps removed: what comes behind one is turned about up and moved, so that the motion goes on. What came
    before the first jump stays where it was measured. Raises BadInput for a place that the recording does not have."""
    position, rotation = samples.position_m.copy(), samples.rotation.copy()
    usual = _UsualMismatch(samples, [p for p in places if 0 < p < len(samples)])
    for place in sorted(places):
        if not 0 < place < len(samples):
            raise BadInput(f"The recording has no sample {place} to remove a jump at: it has {len(samples)}.")
        here = replace(samples, position_m=position, rotation=rotation)
        before, behind = _sides(here, *_ends(place), usual.reach_at(place))
        yaw = float(_yaw_deg(before.rotation @ np.swapaxes(behind.rotation, 1, 2))[0])
        turn = scipy.spatial.transform.Rotation.from_euler("y", yaw, degrees=True).as_matrix()
        moved = before.position_m[0] - turn @ behind.position_m[0]
        position[place:] = position[place:] @ turn.T + moved
        rotation[place:] = turn @ rotation[place:]
    return replace(samples, position_m=position, rotation=rotation)


def _strays_and_breaks(samples: Samples) -> tuple[Ints, Ints]:
    """Single samples far from both neighbours, and places where the pose breaks as at a cut."""
    frames = samples.seconds / samples.step_s
    track = Track("recording", frames, Fraction(60), samples.position_m, samples.rotation, make_lens(len(samples)))
    found = breaks_of(track)
    return found.strays, np.setdiff1d(found.pose, np.union1d(found.strays, found.strays + 1))


def _found(samples: Samples) -> dict[int, Jump]:
    """The jumps by the place of the first sample behind each: all steps of one length are held against what is usual for it.

    Looked for twice: what is usual is measured away from the jumps that were found first.
    """
    out: dict[int, Jump] = {}
    measured: dict[tuple[int, _Reach], _Mismatch] = {}
    for _ in range(2):
        out = _beyond(samples, _UsualMismatch(samples, list(out)), measured)
    return out


def _beyond(samples: Samples, usual: _UsualMismatch, measured: dict[tuple[int, _Reach], _Mismatch]) -> dict[int, Jump]:
    """``measured`` keeps the mismatches of one length from one call to the next."""
    count = len(samples) - 1
    weight, metres, degrees = np.zeros(count), np.zeros(count), np.zeros(count)
    for missing in np.unique(samples.missing).tolist():
        known = usual.of(missing)
        if known is None:
            continue
        at = np.flatnonzero(samples.missing == missing)
        key = (missing, known.reach)
        seen = measured[key] = measured.get(key) or _mismatch(samples, at, at + 1, known.reach)
        metres[at], degrees[at] = seen.metres, seen.degrees
        weight[at] = np.maximum(
            seen.metres / (known.metres + seen.by_speed_m), seen.degrees / (known.degrees + seen.by_speed_deg)
        )
    out: dict[int, Jump] = {}
    for place in np.argsort(-weight, kind="stable").tolist():
        if weight[place] <= 1:
            break
        # Beside a jump, too, one side's fit has both motions in it.
        if all(abs(place + 1 - p) > _BESIDE for p in out):
            out[place + 1] = Jump(
                place + 1, float(samples.seconds[place + 1]), float(metres[place]), float(degrees[place])
            )
    return out


class _UsualMismatch:
    """The mismatch that is usual in one recording, by the number of samples that are missing, away from the places of ``jumps``."""

    def __init__(self, samples: Samples, jumps: list[int]) -> None:
        self._samples = samples
        disturbed = samples.missing >= _DISTURBS
        disturbed[np.array(jumps, dtype=np.int64) - 1] = True
        self._disturbed = np.concatenate([[0], np.cumsum(disturbed)])
        self._known: dict[int, _Usual | None] = {}

    def of(self, missing: int) -> _Usual | None:
        """None where the recording has too few undisturbed places of that length."""
        if missing not in self._known:
            tried = [self._measured(missing, reach) for reach in _reaches(missing)]
            known = [t for t in tried if t is not None]
            self._known[missing] = min(known, key=lambda u: u.metres / _LEAST_M + u.degrees / _LEAST_DEG, default=None)
        return self._known[missing]

    def reach_at(self, place: int) -> _Reach:
        """The fit that a jump at a place is found and removed by."""
        missing = int(self._samples.missing[place - 1])
        tried = _reaches(missing)
        known = self.of(missing) if len(tried) > 1 else None
        return tried[0] if known is None else known.reach

    def _measured(self, missing: int, reach: _Reach) -> _Usual | None:
        seconds = self._samples.seconds
        before = np.arange(reach.samples, len(seconds) - missing - reach.samples - 1)
        behind = before + missing + 1
        undisturbed = self._disturbed[behind + reach.samples] == self._disturbed[before - reach.samples]
        of_length = seconds[behind] - seconds[before] < _SAME_LENGTH * (missing + 1) * self._samples.step_s
        before = before[undisturbed & of_length]
        if len(before) < _FEWEST:
            return None
        before = before[np.unique(np.linspace(0, len(before) - 1, _MOST).astype(np.int64))]
        seen = _mismatch(self._samples, before, before + missing + 1, reach)
        most_m, most_deg = (float(np.percentile(v, _PERCENTILE)) for v in (seen.metres, seen.degrees))
        return _Usual(reach, max(_LEAST_M, _ABOVE * most_m), max(_LEAST_DEG, _ABOVE * most_deg))


def _reaches(missing: int) -> tuple[_Reach, ...]:
    if missing == 0:
        return (_Reach(_BESIDE, 2),)
    return _Reach(_BESIDE, 2), _Reach(max(_BESIDE, round(_SHARE_OF_GAP * missing)), 1)


def _ends(place: int) -> tuple[Ints, Ints]:
    """The samples on both sides of a jump."""
    return np.array([place - 1]), np.array([place])


class _Side(NamedTuple):
    """One side's motion continued to the middle of a step: (k, 3), (k, 3, 3); its speeds, metres (k, 3) and degrees (k, 3) a
    second; and whether it has enough samples (k,) to be continued."""

    position_m: Floats
    rotation: Floats
    speed_m: Floats
    turning_deg: Floats
    enough: Bools


def _sides(samples: Samples, before: Ints, behind: Ints, reach: _Reach) -> tuple[_Side, _Side]:
    middle = (samples.seconds[before] + samples.seconds[behind]) / 2
    away = np.arange(reach.samples)
    return (
        _continued(samples, before[:, None] - away, middle, reach.degree),
        _continued(samples, behind[:, None] + away, middle, reach.degree),
    )


def _continued(samples: Samples, places: Ints, middle_s: Floats, degree: int) -> _Side:
    """Polynomials by least squares through the samples at ``places`` (k, r), the nearest first, at ``middle_s`` (k,)."""
    there = (places >= 0) & (places < len(samples))
    places = np.clip(places, 0, len(samples) - 1)
    # Samples across another gap say little of the motion here.
    piece = np.concatenate([[0], np.cumsum(samples.missing >= _DISTURBS)])
    there &= piece[places] == piece[places[:, :1]]
    offset = samples.seconds[places] - middle_s[:, None]
    scale = np.abs(offset).max(axis=1, keepdims=True)
    powers = (offset / scale)[..., None] ** np.arange(degree + 1) * there[..., None]
    # With fewer samples than the polynomial has terms, the least of all that fit.
    square = np.einsum("krp,krq->kpq", powers, powers) + 1e-9 * np.eye(degree + 1)
    terms = np.einsum("kpq,krq->kpr", np.linalg.inv(square), powers)
    value, slope = terms[:, 0], terms[:, 1] / scale
    position = samples.position_m[places]
    first = samples.rotation[places[:, 0]]
    relative = np.einsum("kji,krjl->kril", first, samples.rotation[places])
    turned = scipy.spatial.transform.Rotation.from_matrix(relative.reshape(-1, 3, 3)).as_rotvec()
    turned = turned.reshape(*places.shape, 3)
    whole = scipy.spatial.transform.Rotation.from_rotvec(np.einsum("kr,krc->kc", value, turned)).as_matrix()
    return _Side(
        np.einsum("kr,krc->kc", value, position),
        first @ whole,
        np.einsum("kr,krc->kc", slope, position),
        np.degrees(np.einsum("kij,kr,krj->ki", first, slope, turned)),
        there.sum(axis=1) >= _FEWEST_BESIDE,
    )


def _mismatch(samples: Samples, before: Ints, behind: Ints, reach: _Reach) -> _Mismatch:
    """Of steps from the samples ``before`` to those ``behind``, (k,) places each; none where a side is too short to tell."""
    one, two = _sides(samples, before, behind, reach)
    half_s = (samples.seconds[behind] - samples.seconds[before]) / 2
    enough = one.enough & two.enough
    return _Mismatch(
        np.linalg.norm(one.position_m - two.position_m, axis=1) * enough,
        np.abs(_yaw_deg(one.rotation @ np.swapaxes(two.rotation, 1, 2))) * enough,
        np.linalg.norm(one.speed_m - two.speed_m, axis=1) * half_s,
        np.linalg.norm(one.turning_deg - two.turning_deg, axis=1) * half_s,
    )


def _yaw_deg(turn: Floats) -> Floats:
    """The turns about up that come nearest to rotations (k, 3, 3)."""
    return np.degrees(np.arctan2(turn[:, 0, 2] - turn[:, 2, 0], turn[:, 0, 0] + turn[:, 2, 2]))
