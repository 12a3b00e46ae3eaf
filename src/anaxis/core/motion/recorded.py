"""What a hand-held tracker measured, made a camera: by its own clock, its jumps healed, its noise smoothed by pixels.

Samples come when the device took them, about 60 a second, with some missing. Their poses are in the device's own frame: metres
from where it was switched on, up along gravity, the camera looking along its -Z. Now and then the device finds out that it
stands elsewhere than it thought (a relocalisation): from there on all it says is turned about up and shifted.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any, Literal, NamedTuple

import numpy as np
import scipy
from pydantic import Field

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import at_frame, heading_of_deg
from anaxis.core.motion.samples import Gap, Samples, gaps_of
from anaxis.core.motion.tracking_jumps import Jump, SmallestJump, healed, smallest_jumps
from anaxis.core.parameters import Parameters, read
from anaxis.core.proof.proof import Proof, prove
from anaxis.core.time.rates import parse_rate
from anaxis.core.typing import Floats, Ints

Gaps = Literal["bridge", "hold"]
KeptSide = Literal["width", "height"]
GAP_WORDS: dict[Gaps, str] = {"bridge": "interpolated from both sides", "hold": "held at the last pose"}
# Pixels whose sides differ by less are square.
_SQUARE = 1e-3
_NO_MARKS = np.zeros((1, 0, 3))


class RecordingSettings(Parameters):
    """How a camera is made of a recording.

    ``heal`` are the places of jumps to remove; across others nothing is drawn. ``smooth_px`` is what smoothing may cost on any
    frame, 0 for none. ``aspect`` is the film back's, by keeping the picture's width or height; None as filmed. ``stand``
    is where the camera is on the frame ``stand_at`` (None: the first), with the heading given: right, up and back in metres.
    """

    rate: str = "24/1"
    first_frame: float = Field(default=1001, ge=-1e7, le=1e7)
    gaps: Gaps = "bridge"
    heal: list[int] = Field(default=[], max_length=1000)
    smooth_px: float = Field(default=0.0, ge=0, le=1000)
    aspect: float | None = Field(default=None, gt=0.05, lt=20)
    keep: KeptSide = "width"
    film_width_mm: float = Field(default=36.0, gt=0.01, lt=100_000)
    stand: tuple[float, float, float] | None = None
    heading_deg: float | None = None
    stand_at: float | None = None


class Taken(NamedTuple):
    """A camera made of a recording. ``gaps`` as they were found; ``drawn`` the frames that lie in them; ``sigma_s`` how far the
    smoothing reaches, and ``smoothing`` what it cost against the samples as they came, in pixels; None where there is none;
    ``smallest_jumps`` in the long gaps."""

    track: Track
    image: Image
    gaps: list[Gap]
    drawn: Floats
    jumps: list[Jump]
    healed: list[Jump]
    sigma_s: float
    smoothing: Proof | None
    smallest_jumps: list[SmallestJump]


def settings_of(document: Mapping[str, Any]) -> RecordingSettings:
    """Raises BadInput that names the field at fault."""
    return read(RecordingSettings, document, "a recording")


def usual_settings(samples: Samples, jumps: list[Jump]) -> RecordingSettings:
    """What a person starts from: all jumps removed, the noise smoothed within a pixel, the camera at eye height; a picture that
    was filmed upright cut to 16:9."""
    return RecordingSettings(
        heal=[j.place for j in jumps], smooth_px=1.0, aspect=None if samples.image.aspect >= 1 else 16 / 9,
        stand=(0.0, 1.5, 0.0), heading_deg=0.0,
    )  # fmt: skip


def taken(samples: Samples, jumps: list[Jump], settings: RecordingSettings, name: str) -> Taken:
    """The camera of a recording whose jumps were found, a sample on every frame of a rate, by the device's own clock.

    Raises BadInput.
    """
    rate, first_frame, heal = parse_rate(settings.rate), settings.first_frame, settings.heal
    smooth_px, film_width_mm = settings.smooth_px, settings.film_width_mm
    found, holes = healed(samples, heal), gaps_of(samples)
    count = int(np.floor(samples.seconds[-1] * float(rate) + 1e-9)) + 1
    if not 1 <= count <= MAX_FRAMES:
        raise BadInput(f"At this rate the recording has {count} frames; 1 to {MAX_FRAMES} are possible.")
    left = sorted({j.place for j in jumps} - set(heal))
    held = np.searchsorted(samples.seconds, [g.end_s for g in holes]).tolist() if settings.gaps == "hold" else []
    apart = sorted({*left, *held})
    at = np.arange(count) / float(rate)
    image, lens = _lens(samples, at, settings.aspect, settings.keep, film_width_mm)
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
    if settings.stand is not None:
        place = 0 if settings.stand_at is None else round(settings.stand_at - first_frame)
        if not 0 <= place < count:
            raise BadInput(
                f"The take has no frame {settings.stand_at:g} to place the camera at: it runs from {frames[0]:g} to {frames[-1]:g}."
            )
        heading = settings.heading_deg
        heading = heading if heading is not None else heading_of_deg(-track.rotation[place, :, 2])
        track = at_frame(track, place, np.array(settings.stand), heading).track(track)
    inside = np.zeros(count, dtype=np.bool_)
    for hole in holes:
        inside |= (at > hole.start_s + 1e-9) & (at < hole.end_s - 1e-9)
    return Taken(
        track,
        image,
        holes,
        frames[inside],
        jumps,
        [j for j in jumps if j.place in heal],
        sigma,
        cost,
        smallest_jumps(samples, jumps),
    )


def _cuts(samples: Samples, left: list[int], at: Floats) -> Ints | None:
    """The first frames behind jumps that are left, marked as cuts: nothing is drawn across them later either."""
    places = np.searchsorted(at, samples.seconds[left] - 1e-9) if left else np.zeros(0, dtype=np.int64)
    marked = np.zeros(len(at), dtype=np.int64)
    marked[places[(places > 0) & (places < len(at))]] = 1
    return marked if marked.any() else None


def _lens(
    samples: Samples, at: Floats, aspect: float | None, keep: KeptSide, film_width_mm: float
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
    usual = samples.step_s
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


# The bells that are tried: the narrowest and the widest, in seconds, and how often the way between them is halved (to 3 %).
_SIGMAS = (1e-3, 4.0)
_HALVINGS = 8


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
    for _ in range(_HALVINGS):
        middle = float(np.sqrt(low * high))
        track, proof = tried(middle)
        if proof.max_px <= most_px:
            low, best = middle, (middle, track, proof)
        else:
            high = middle
    return best
