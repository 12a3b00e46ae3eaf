"""The frame numbers that deliveries gave a camera, and a camera that came back read in the numbers it has here."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.time.rates import format_frame
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.returned import CameBack, compared
from anaxis.formats import format_of
from anaxis.formats.file_time import zero_frame_of
from anaxis.packages.model import Profile

# Numberings are as near as each other where the picture tells them apart by less.
_AS_NEAR_PX = 1e-3


@dataclass(frozen=True)
class Numbering:
    """The camera's first frame is frame ``first`` in the package; ``sentence`` says why, where that is another than here.

    ``wanted`` is False where a file begins at 0 s for its format's sake, and the package was to move the clip from there.
    """

    first: float
    sentence: str = ""
    wanted: bool = True


def numberings(track: Track, profile: Profile, deliveries: Iterable[tuple[str, DeliveryOptions]]) -> list[Numbering]:
    """Where a camera may begin in its package after ``deliveries`` to it, each a format and its options; its own number first."""
    own = float(track.frames[0])
    found = {own: Numbering(own)}
    for format_key, options in deliveries:
        first = own if options.first is None else options.first
        sentence = (
            f"The delivery renumbered frame {format_frame(own)} as frame {format_frame(first)}. Causes use the frame numbers of the package, deviations those of the shot."
            ""
        )
        found.setdefault(first, Numbering(first, sentence))
        frames = track.frames + (first - own)
        zero, said = zero_frame_of(format_of(format_key), frames, track.rate, profile.time.clips_from_zero)
        if zero:
            found.setdefault(0.0, Numbering(0.0, f"The clip begins at frame 0 in the package. {said}", wanted=False))
    return list(found.values())


def nearest_sent(
    cameras: Sequence[ShotCamera], among: Sequence[Numbering], back: CameBack, profile: Profile | None
) -> tuple[ShotCamera, Numbering]:
    """Of the ``cameras`` that may have been handed over, in the numberings they may have there, those that a camera that came
    back is nearest to; of two as near, the numbering that leaves fewer frames out, then the earlier."""

    def apart(sent: tuple[ShotCamera, Numbering]) -> tuple[float, int]:
        camera, numbering = sent
        try:
            here = renumbered_back(back, numbering, camera.track)
            proof = compared(camera.track, NO_LANDMARKS, camera.picture, here, profile).proof
        except BadInput:  # not one frame in common
            return np.inf, len(camera.track)
        return round(proof.median_px / _AS_NEAR_PX), len(proof.missing)

    return min(((c, n) for n in among for c in cameras), key=apart)


def renumbered_back(back: CameBack, numbering: Numbering, meant: Track) -> CameBack:
    """A camera that came back, in the numbers of the one meant."""
    frames = back.track.frames + (meant.frames[0] - numbering.first)
    return replace(back, track=replace(back.track, frames=frames))
