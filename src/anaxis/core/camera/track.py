"""One camera's samples: per frame position, rotation and lens, in canonical space."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.channels import CHANNELS, FRAMING
from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image, Used, used_rectangle
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats, Ints

# Beyond it a double holds no tenth of a millimetre.
_FAR_M = 1e12
# Millimetres, or a squeeze, beyond which no picture can be worked out; and for what must be above zero, below which.
_LARGE, _SMALL = 1e9, 1e-9


# A camera whose position and rotation change by less stands still.
_STILL_M = 1e-9


@dataclass(frozen=True, eq=False)
class Lens:
    """The lens on every frame; all arrays (n,). NaN where a file says nothing (focus, stop, near, far)."""

    focal_mm: Floats
    film_width_mm: Floats
    film_height_mm: Floats
    offset_x_mm: Floats
    offset_y_mm: Floats
    squeeze: Floats
    focus_m: Floats
    fstop: Floats
    near_m: Floats
    far_m: Floats

    def used(self, image: Image, fit: str) -> Used:
        return used_rectangle(self.film_width_mm, self.film_height_mm, self.squeeze, image, fit)

    def values_at(self, at: int) -> dict[str, float]:
        """Every channel by name at one sample."""
        return {f.name: float(getattr(self, f.name)[at]) for f in fields(self)}

    def select_frames(self, index: Ints) -> Lens:
        return Lens(**{f.name: getattr(self, f.name)[index] for f in fields(self)})


def make_lens(n: int, **channels: object) -> Lens:
    """A lens of ``n`` frames from numbers or (n,) arrays; what is left out takes a neutral value."""
    filled = {**{k: c.neutral for k, c in CHANNELS.items()}, **channels}
    return Lens(**{k: np.array(np.broadcast_to(np.asarray(v, np.float64), (n,))) for k, v in filled.items()})


@dataclass(frozen=True, eq=False)
class Track:
    """A camera in world space with one sample on every frame.

    ``frames`` (n,) frame numbers, ``rate`` frames a second, ``position_m`` (n, 3), ``rotation``
    (n, 3, 3) with the camera's local axes as columns. ``marked`` (n,) is 1 at samples that a person said
    begin a new shot, -1 at those where a leap is none, 0 elsewhere; None where nobody has said anything.
    ``distortion`` is that of the plate as shot, of one or n frames: the camera itself is a pinhole that sees the plate
    undistorted.
    """

    name: str
    frames: Floats
    rate: Fraction
    position_m: Floats
    rotation: Floats
    lens: Lens
    marked: Ints | None = None
    distortion: Distortion | None = None

    def __len__(self) -> int:
        return len(self.frames)

    def select_frames(self, index: Ints) -> Track:
        """The samples at ``index`` (k,), in that order."""
        return replace(
            self,
            frames=self.frames[index],
            position_m=self.position_m[index],
            rotation=self.rotation[index],
            lens=self.lens.select_frames(index),
            marked=None if self.marked is None else self.marked[index],
            distortion=None if self.distortion is None else self.distortion.select_frames(index),
        )

    def between(self, first: float, last: float) -> Track:
        """The samples from ``first`` to ``last``; raises BadInput where the camera has none."""
        keep = np.flatnonzero((self.frames >= first) & (self.frames <= last))
        if not len(keep):
            raise BadInput(
                f"'{self.name}' has no frames between {format_frame(first)} and {format_frame(last)}: it "
                f"runs from {format_frame(self.frames[0])} to {format_frame(self.frames[-1])}."
            )
        return self.select_frames(keep)


def on_common_frames(a: Track, b: Track) -> tuple[Track, Track]:
    """Two tracks on the frames that both have, a ten thousandth of a frame being none."""
    both = np.intersect1d(np.round(a.frames, 4), np.round(b.frames, 4))
    one, other = (t.select_frames(np.flatnonzero(np.isin(np.round(t.frames, 4), both))) for t in (a, b))
    return one, other


def pose_rows(track: Track) -> Floats:
    """Position and rotation of every frame side by side, (n, 12)."""
    return np.concatenate([track.position_m, track.rotation.reshape(len(track), 9)], axis=1)


def is_moving(track: Track) -> bool:
    """Whether the camera's position or rotation changes at all over its frames."""
    rows = pose_rows(track)
    good = rows[np.isfinite(rows).all(axis=1)]
    return bool(len(good)) and bool(np.ptp(good, axis=0).max() > _STILL_M)


def lens_moves(track: Track) -> bool:
    """Whether anything of the lens that shapes the picture changes over the frames."""
    return any(np.ptp(getattr(track.lens, k)) > 0 for k in FRAMING)


class Unusable(NamedTuple):
    """Why a track cannot be used, from a frame on, and what mends it; ``code`` for programs."""

    code: str
    what: str
    mend: str


def require_usable(track: Track, where: str) -> None:
    """Raise BadInput naming the first frame at which a track cannot be used; see :func:`unusable`."""
    found = unusable(track)
    if found is not None:
        raise BadInput(f"{where} {found.what}: {found.mend}.", found.code)


def unusable(track: Track) -> Unusable | None:
    """The first reason why a track cannot be used; None where it can.

    Checked: finite position, rotation, focal length, film back and offsets; focal length, film
    back and squeeze above zero, none so large or small that no picture can be worked out; positions within reach of double precision;
    frames that rise.
    """
    if (np.diff(track.frames) <= 0).any():
        frame = format_frame(track.frames[int(np.argmax(np.diff(track.frames) <= 0))])
        return Unusable(
            "frames_do_not_rise", f"has frames out of order after frame {frame}", "choose a smaller first frame"
        )
    groups = {
        "position": track.position_m,
        "rotation": track.rotation.reshape(len(track), 9),
        **{k: getattr(track.lens, k)[:, None] for k in FRAMING},
    }
    for label, values in groups.items():
        bad = ~np.isfinite(values).all(axis=1)
        if bad.any():
            frame = format_frame(track.frames[np.argmax(bad)])
            what = f"has a {label.replace('_mm', '').replace('_', ' ')} that is not a number at frame {frame}"
            return Unusable("not_a_number", what, "repair that key in the source and export again")
    far = np.abs(track.position_m).max(axis=1) > _FAR_M
    if far.any():
        at = int(np.argmax(far))
        return Unusable(
            "too_far_out",
            f"stands {np.abs(track.position_m[at]).max():.3g} m from the origin at frame "
            f"{format_frame(track.frames[at])}",
            "the picture is not usable there; check the unit and that key",
        )
    for label in FRAMING:
        values = np.abs(getattr(track.lens, label))
        off = (values > _LARGE) | ((values > 0) & (values < _SMALL) if CHANNELS[label].positive else False)
        if off.any():
            at = int(np.argmax(off))
            named = label.replace("_mm", "").replace("_", " ")
            what = f"has a {named} of {values[at]:.3g} at frame {format_frame(track.frames[at])}, which gives no usable picture"
            return Unusable("out_of_bounds", what, "check the unit and that key")
    for label in (k for k in FRAMING if CHANNELS[k].positive):
        values = getattr(track.lens, label)
        if (values <= 0).any():
            at = int(np.argmax(values <= 0))
            return Unusable(
                "not_above_zero",
                f"has a {label.removesuffix('_mm').replace('_', ' ')} of {values[at]:g} at frame {format_frame(track.frames[at])}",
                "it must be above zero",
            )
    return None
