"""What a hand-held tracker measured, made a camera: by its own clock, its jumps healed, its noise smoothed by pixels.

Samples come when the device took them, about 60 a second, with some missing. Their poses are in the device's own frame: metres
from where it was switched on, up along gravity, the camera looking along its -Z. Now and then the device finds out that it
stands elsewhere than it thought (a relocalisation): from there on all it says is turned about up and shifted.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Literal, NamedTuple

import numpy as np
import scipy

from anaxis.core.bounds import MAX_FRAMES, MAX_NUMBER
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import breaks_of
from anaxis.core.motion.placement import at_frame, heading_of_deg
from anaxis.core.proof.proof import Proof, prove
from anaxis.core.typing import Floats, Ints

Gaps = Literal["bridge", "hold"]
Kept = Literal["width", "height"]
GAP_WORDS: dict[Gaps, str] = {"bridge": "drawn from both sides", "hold": "the last pose held until the next sample"}
# A step of so many usual ones between two samples is a gap.
_GAP_STEPS = 1.6
# A clock in seconds, of this century or of the device's start; two samples are further apart than this.
_MOST_CLOCK_S, _LEAST_STEP_S = 1e12, 1e-6
# Samples on either side of a jump that say where the motion was going.
_BESIDE = 8
# Pixels whose sides differ by less are square.
_SQUARE = 1e-3
_NO_MARKS = np.zeros((1, 0, 3))


@dataclass(frozen=True, eq=False)
class Samples:
    """``seconds`` (n,) by the device's clock, rising; ``position_m`` (n, 3), ``rotation`` (n, 3, 3) camera to the device's world;
    ``intrinsics_px`` (n, 4): focal lengths and principal point in pixels of ``image``, from its upper left."""

    seconds: Floats
    position_m: Floats
    rotation: Floats
    intrinsics_px: Floats
    image: Image

    def __len__(self) -> int:
        return len(self.seconds)


class Gap(NamedTuple):
    """From the sample before it to the one behind it, in seconds of the recording, and how many samples are missing."""

    start_s: float
    end_s: float
    missing: int


class Jump(NamedTuple):
    """The place of the first sample behind a jump, when that is, and what the jump is: metres and degrees."""

    place: int
    at_s: float
    metres: float
    degrees: float


class Taken(NamedTuple):
    """A camera made of a recording. ``gaps`` as they were found; ``drawn`` the frames that lie in them; ``sigma_s`` how far the
    smoothing reaches, and ``smoothing`` what it cost against the samples as they came, in pixels; None where there is none."""

    track: Track
    image: Image
    gaps: list[Gap]
    drawn: Floats
    jumps: list[Jump]
    healed: list[Jump]
    sigma_s: float
    smoothing: Proof | None


def samples_of(rows: Floats, image: Image) -> Samples:
    """Samples from rows (n, 12): clock, position, quaternion x y z w, focal lengths, principal point. Those that came late or twice
    are put in order, once. Raises BadInput for under two, or a quaternion that is none."""
    if len(rows) < 2:
        raise BadInput(f"The recording has {len(rows)} samples: two are the least that move. Record again.")
    rows = rows[np.unique(rows[:, 0], return_index=True)[1]]
    large = ~(np.abs(rows[:, 1:]) <= MAX_NUMBER).all(axis=1) | ~(np.abs(rows[:, 0]) <= _MOST_CLOCK_S)
    if large.any():
        raise BadInput(f"Sample {int(np.argmax(large))} of the recording holds a number that cannot be: record again.")
    if len(rows) < 2 or (np.diff(rows[:, 0]) < _LEAST_STEP_S).any():
        raise BadInput("The recording's samples follow each other within a microsecond: its clock must be in seconds.")
    size = np.linalg.norm(rows[:, 4:8], axis=1)
    if (size < 1e-6).any() or not np.isfinite(rows).all() or (rows[:, 8:10] <= 0).any():
        at = int(np.argmax((size < 1e-6) | ~np.isfinite(rows).all(axis=1) | (rows[:, 8:10] <= 0).any(axis=1)))
        raise BadInput(f"Sample {at} of the recording holds a rotation or a lens that is none: record again.")
    turned = scipy.spatial.transform.Rotation.from_quat(rows[:, 4:8]).as_matrix()
    return Samples(rows[:, 0] - rows[0, 0], rows[:, 1:4], turned, rows[:, 8:12], image)


def step_s(samples: Samples) -> float:
    """The usual time from one sample to the next."""
    return float(np.median(np.diff(samples.seconds)))


def gaps_of(samples: Samples) -> list[Gap]:
    usual, steps = step_s(samples), np.diff(samples.seconds)
    wide = np.flatnonzero(steps > _GAP_STEPS * usual)
    return [
        Gap(float(samples.seconds[i]), float(samples.seconds[i + 1]), round(float(steps[i] / usual)) - 1) for i in wide
    ]


def jumps_of(samples: Samples) -> list[Jump]:
    """Where the poses leap and go on from there, as at a cut: the device took itself to be elsewhere."""
    frames = samples.seconds / step_s(samples)
    found = breaks_of(_as_track(samples, frames))
    places = np.setdiff1d(found.pose, np.union1d(found.strays, found.strays + 1))
    out = []
    for place in places.tolist():
        moved, turn = _jump_at(samples, place)
        out.append(Jump(place, float(samples.seconds[place]), float(np.linalg.norm(moved)), abs(turn)))
    return out


def _as_track(samples: Samples, frames: Floats) -> Track:
    return Track("recording", frames, Fraction(60), samples.position_m, samples.rotation, make_lens(len(samples)))


def _jump_at(samples: Samples, place: int) -> tuple[Floats, float]:
    """What the samples from ``place`` on have to be moved (metres) and turned about up (degrees) to go on from those before: the
    motion of either side, fitted by a parabola, meets in the middle of the step."""
    before, behind = slice(max(0, place - _BESIDE), place), slice(place, place + _BESIDE)
    middle = (samples.seconds[place - 1] + samples.seconds[place]) / 2
    ends = []
    for side in (before, behind):
        seconds = samples.seconds[side] - middle
        degree = 2 if len(seconds) > 5 else 1 if len(seconds) > 2 else 0
        position = np.array([np.polyfit(seconds, v, degree)[-1] for v in samples.position_m[side].T])
        first = samples.rotation[side][0]
        turned = scipy.spatial.transform.Rotation.from_matrix(first.T @ samples.rotation[side]).as_rotvec()
        turn = (
            first
            @ scipy.spatial.transform.Rotation.from_rotvec(
                [np.polyfit(seconds, v, degree)[-1] for v in turned.T]
            ).as_matrix()
        )
        ends.append((position, turn))
    (place_a, turn_a), (place_b, turn_b) = ends
    yaw = _yaw_deg(turn_a @ turn_b.T)
    about = scipy.spatial.transform.Rotation.from_euler("y", yaw, degrees=True).as_matrix()
    return place_a - about @ place_b, yaw


def _yaw_deg(turn: Floats) -> float:
    """The turn about up that comes nearest to a rotation."""
    return float(np.degrees(np.arctan2(turn[0, 2] - turn[2, 0], turn[0, 0] + turn[2, 2])))


def healed(samples: Samples, places: list[int]) -> Samples:
    """The samples with jumps taken out: what comes behind one is turned about up and moved, so that the motion goes on. What came
    before the first jump stays where it was measured."""
    position, rotation = samples.position_m.copy(), samples.rotation.copy()
    for place in sorted(places):
        if not 0 < place < len(samples):
            raise BadInput(f"There is no sample {place} to heal a jump at: the recording has {len(samples)}.")
        moved, yaw = _jump_at(replace(samples, position_m=position, rotation=rotation), place)
        turn = scipy.spatial.transform.Rotation.from_euler("y", yaw, degrees=True).as_matrix()
        position[place:] = position[place:] @ turn.T + moved
        rotation[place:] = turn @ rotation[place:]
    return replace(samples, position_m=position, rotation=rotation)


def taken(
    samples: Samples, name: str, rate: Fraction, first_frame: float, gaps: Gaps, heal: list[int], smooth_px: float, aspect: float | None,
    keep: Kept, film_width_mm: float, stand: tuple[float, float, float] | None, heading_deg: float | None, stand_at: float | None,
) -> Taken:  # fmt: skip
    """The camera of a recording, a sample on every frame of a rate, by the device's own clock.

    ``heal`` are the places of jumps to take out; across others nothing is drawn. ``smooth_px`` is what smoothing may cost on any
    frame, 0 for none. ``aspect`` is the film back's, by keeping the picture's width or height; None as it was filmed. ``stand``
    is where the camera stands on the frame ``stand_at``, with the heading given: right, up and back in metres.
    Raises BadInput.
    """
    if not film_width_mm > 0 or (aspect is not None and not 0.05 < aspect < 20) or not smooth_px >= 0:
        raise BadInput("Film back and aspect must be above zero, and the smoothing 0 px or more.")
    found, jumps, holes = healed(samples, heal), jumps_of(samples), gaps_of(samples)
    count = int(np.floor(samples.seconds[-1] * float(rate) + 1e-9)) + 1
    if not 1 <= count <= MAX_FRAMES:
        raise BadInput(f"At that rate the recording has {count} frames; 1 to {MAX_FRAMES} can be had.")
    left = sorted({j.place for j in jumps} - set(heal))
    held = np.searchsorted(samples.seconds, [g.end_s for g in holes]).tolist() if gaps == "hold" else []
    apart = sorted({*left, *held})
    at = np.arange(count) / float(rate)
    image, lens = _lens(samples, at, aspect, keep, film_width_mm)
    frames = first_frame + np.arange(count, dtype=np.float64)
    nothing = Track(
        name,
        frames,
        rate,
        np.zeros((count, 3)),
        np.zeros((count, 3, 3)),
        make_lens(count, **lens),
        _cuts(samples, left, at),
    )

    def drawn(sigma_s: float) -> Track:
        position, rotation = _resampled(found, at, apart, sigma_s)
        return replace(nothing, position_m=position, rotation=rotation)

    track, sigma, cost = drawn(0.0), 0.0, None
    if smooth_px > 0:
        sigma, track, cost = _smoothest(drawn, track, image, smooth_px)
    if stand is not None:
        place = 0 if stand_at is None else round(stand_at - first_frame)
        if not 0 <= place < count:
            raise BadInput(
                f"There is no frame {stand_at:g} to stand it at: the take runs from {frames[0]:g} to {frames[-1]:g}."
            )
        heading = heading_deg if heading_deg is not None else heading_of_deg(-track.rotation[place, :, 2])
        track = at_frame(track, place, np.array(stand), heading).track(track)
    inside = np.zeros(count, dtype=np.bool_)
    for hole in holes:
        inside |= (at > hole.start_s + 1e-9) & (at < hole.end_s - 1e-9)
    return Taken(track, image, holes, frames[inside], jumps, [j for j in jumps if j.place in heal], sigma, cost)


def _cuts(samples: Samples, left: list[int], at: Floats) -> Ints | None:
    """The first frames behind jumps that are left, marked as cuts: nothing is drawn across them later either."""
    places = np.searchsorted(at, samples.seconds[left] - 1e-9) if left else np.zeros(0, dtype=np.int64)
    marked = np.zeros(len(at), dtype=np.int64)
    marked[places[(places > 0) & (places < len(at))]] = 1
    return marked if marked.any() else None


def _lens(
    samples: Samples, at: Floats, aspect: float | None, keep: Kept, film_width_mm: float
) -> tuple[Image, dict[str, Floats]]:
    """The image and the lens on it: the phone's picture cut, or widened, about its middle to the aspect wanted."""
    filmed = samples.image
    width, height = float(filmed.width_px), float(filmed.height_px)
    if aspect is not None:
        width, height = (width, width / aspect) if keep == "width" else (height * aspect, height)
    fx, fy, cx, cy = (
        scipy.interpolate.PchipInterpolator(samples.seconds, v)(at) if np.ptp(v) else np.full(len(at), v[0])
        for v in samples.intrinsics_px.T
    )
    oblong = float(np.median(fy / fx))
    image = Image(_even(width), _even(height), 1.0 if abs(oblong - 1) < _SQUARE else oblong)
    per_px = film_width_mm / image.width_px
    film_height_mm = film_width_mm / image.aspect
    return image, {
        "focal_mm": fx * per_px,
        "film_width_mm": np.full(len(at), film_width_mm),
        "film_height_mm": np.full(len(at), film_height_mm),
        "offset_x_mm": (filmed.width_px / 2 - cx) * per_px,
        "offset_y_mm": (cy - filmed.height_px / 2) * film_height_mm / image.height_px,
    }


def _even(value: float) -> int:
    return max(2, 2 * round(value / 2))


def _resampled(samples: Samples, at: Floats, apart: list[int], sigma_s: float) -> tuple[Floats, Floats]:
    """Poses at ``at`` (m,) seconds, drawn between samples but never across the places ``apart``: there the last pose is held."""
    position, rotation = np.empty((len(at), 3)), np.empty((len(at), 3, 3))
    starts = np.array([0, *apart], dtype=np.int64)
    ends = np.array([*apart, len(samples)], dtype=np.int64)
    piece = np.clip(np.searchsorted(samples.seconds[starts], at + 1e-9, side="right") - 1, 0, len(starts) - 1)
    usual = step_s(samples)
    for k in np.unique(piece).tolist():
        inside = piece == k
        run = slice(int(starts[k]), int(ends[k]))
        poses = samples.seconds[run], samples.position_m[run], samples.rotation[run]
        position[inside], rotation[inside] = _drawn(*poses, at[inside], usual, sigma_s)
    return position, rotation


def _drawn(
    seconds: Floats, place: Floats, turn: Floats, at: Floats, usual_s: float, sigma_s: float
) -> tuple[Floats, Floats]:
    if len(seconds) == 1:
        return np.repeat(place, len(at), axis=0), np.repeat(turn, len(at), axis=0)
    if sigma_s > 0:
        place, turn = _smoothed(seconds, place, turn, usual_s, sigma_s)
        seconds = _grid(seconds, usual_s)
    where = np.clip(at, seconds[0], seconds[-1])
    position = scipy.interpolate.PchipInterpolator(seconds, place)(where)
    return position, np.asarray(
        scipy.spatial.transform.Slerp(seconds, scipy.spatial.transform.Rotation.from_matrix(turn))(where).as_matrix()
    )


def _grid(seconds: Floats, usual_s: float) -> Floats:
    count = max(2, int(np.ceil((seconds[-1] - seconds[0]) / usual_s)) + 1)
    return np.linspace(seconds[0], seconds[-1], count)


def _smoothed(seconds: Floats, place: Floats, turn: Floats, usual_s: float, sigma_s: float) -> tuple[Floats, Floats]:
    """Poses on an even grid, weighed over the time around each by a bell; ends go on as they went (odd reflection)."""
    grid = _grid(seconds, usual_s)
    sigma = sigma_s / (grid[1] - grid[0])
    even = scipy.interpolate.PchipInterpolator(seconds, place)(grid)
    spun = scipy.spatial.transform.Slerp(seconds, scipy.spatial.transform.Rotation.from_matrix(turn))(grid)
    quaternion = spun.as_quat()
    flips = np.cumprod(
        np.concatenate([[1.0], np.where(np.sum(quaternion[1:] * quaternion[:-1], axis=1) < 0, -1.0, 1.0)])
    )
    weighed = _weighed(quaternion * flips[:, None], sigma)
    return _weighed(even, sigma), scipy.spatial.transform.Rotation.from_quat(weighed).as_matrix()


def _weighed(values: Floats, sigma: float) -> Floats:
    reach = min(len(values) - 1, int(np.ceil(4 * sigma)))
    head, tail = 2 * values[0] - values[reach:0:-1], 2 * values[-1] - values[-2 : -2 - reach : -1]
    whole = np.concatenate([head, values, tail])
    return np.asarray(
        scipy.ndimage.gaussian_filter1d(whole, sigma, axis=0, mode="nearest")[reach : reach + len(values)]
    )


_SIGMAS = (1e-3, 4.0)


def _smoothest(
    drawn: Callable[[float], Track], plain: Track, image: Image, most_px: float
) -> tuple[float, Track, Proof | None]:
    """The widest bell that moves no picture by more than ``most_px``: found by halving the way between one that reaches no further
    than a sample and one of four seconds."""

    meant = projection_of(plain, image, "width")

    def tried(sigma_s: float) -> tuple[Track, Proof]:
        track = drawn(sigma_s)
        return track, prove(plain, meant, projection_of(track, image, "width"), _NO_MARKS)

    low, high = _SIGMAS
    best: tuple[float, Track, Proof | None] = (0.0, plain, None)
    for _ in range(14):
        middle = float(np.sqrt(low * high))
        track, proof = tried(middle)
        if proof.max_px <= most_px:
            low, best = middle, (middle, track, proof)
        else:
            high = middle
    return best
