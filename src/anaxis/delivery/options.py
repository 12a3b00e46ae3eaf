"""What a receiver gets beside the camera as it is kept, and how its frames are numbered there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from anaxis.core.errors import BadInput
from anaxis.core.image_plane import require_distance
from anaxis.core.motion.reduce import require_tolerance
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages.model import Profile

MAX_SAMPLES = 64
MAX_MULTIPLE = 1024


@dataclass(frozen=True)
class Options:
    """What a receiver gets beside the camera as it is kept.

    ``reduce_px``: only the keys that keep the picture within so many pixels. ``first``: the number of the
    first frame there, ours where None. ``under_root``: below a root that carries the placement. ``samples`` a
    frame, spread from ``shutter_open`` to ``shutter_close`` in frames from it, where more than one.
    ``between``: the picture is also compared at so many places a frame. ``overscan``: a render larger than the plate,
    "auto" for what the distortion needs, a percentage, or a size in pixels; about the plate's middle or ``tight``, its
    sides multiples of ``multiple``. ``plane_m``: an image plane so far before the camera.
    """

    reduce_px: float | None = None
    first: float | None = None
    under_root: bool = False
    samples: int = 1
    shutter_open: float = -0.25
    shutter_close: float = 0.25
    between: int = 1
    overscan: str = ""
    multiple: int = 2
    tight: bool = False
    plane_m: float | None = None
    plane_opacity: float = 1.0

    def __post_init__(self) -> None:
        if self.reduce_px is not None:
            require_tolerance(self.reduce_px)
        if not 1 <= self.samples <= MAX_SAMPLES or not 1 <= self.between <= MAX_SAMPLES:
            raise BadInput(f"{max(self.samples, self.between)} samples a frame cannot be: choose 1 to {MAX_SAMPLES}.")
        if self.samples > 1 and self.reduce_px is not None:
            raise BadInput("Few keys and several samples a frame ask for opposite things: leave one of them out.")
        if self.plane_m is not None:
            require_distance(self.plane_m, self.plane_opacity)
        if not 1 <= self.multiple <= MAX_MULTIPLE:
            raise BadInput(f"Sides that are multiples of {self.multiple} px cannot be: choose 1 to {MAX_MULTIPLE}.")
        if not -1 < self.shutter_open < self.shutter_close < 1:
            raise BadInput(
                f"A shutter from {self.shutter_open:g} to {self.shutter_close:g} frames cannot be: it opens before it "
                "closes, less than a frame away from its own."
            )


USUAL = Options()


def from_zero_up(options: Options, cameras: Sequence[ShotCamera], profile: Profile) -> Options:
    """Many packages drop what lies before frame 0: a camera that begins there goes out from the package's own first
    frame on, unless another is asked for; several keep step."""
    first = float(cameras[0].track.frames[0])
    earliest = min(float(c.track.frames[0]) for c in cameras)
    if options.first is not None or earliest >= 0:
        return options
    return replace(options, first=profile.time.first_frame + first - earliest)


def begins_there(options: Options, first: float, own: float) -> float:
    """The frame there at which a camera begins that begins at frame ``own`` here.

    A first frame there is that of the first camera, which begins at ``first``; the others are renumbered by as
    much, so that they keep step.
    """
    return own if options.first is None else options.first + own - first


def moved_along(options: Options, first: float, own: float) -> Options:
    """The options of a camera that begins at frame ``own`` here, where the first one begins at ``first``."""
    return options if options.first is None else replace(options, first=begins_there(options, first, own))


def along(options: Options, first: ShotCamera, camera: ShotCamera) -> Options:
    return moved_along(options, float(first.track.frames[0]), float(camera.track.frames[0]))
