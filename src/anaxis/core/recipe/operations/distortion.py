"""Distortion of the plate: set, or said to be none."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion, distortion_from_document
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.time.rates import format_frame


class DistortionOfPlate(Parameters):
    """``frames`` are those that lists of numbers are given for; without it they are the camera's own, in order."""

    document: dict[str, Any] = parameter("Distortion")
    frames: list[float] | None = parameter("Frames", default=None)
    of: str | None = parameter("From", default=None)


def _distortion(work: Work, p: DistortionOfPlate) -> Work:
    return work.with_track(distorted(work.done, p.document, p.frames))


def distorted(track: Track, document: dict[str, Any], frames: list[float] | None = None) -> Track:
    """A camera with the distortion of a document. Raises BadInput where it is given for other frames."""
    found = distortion_from_document(document)
    if found.frames == 1:
        return replace(track, distortion=found)
    if frames is None:
        if found.frames != len(track):
            raise BadInput(
                f"the distortion is given for {found.frames} frames and the camera has {len(track)} here: give as many "
                "numbers as frames, or number its frames."
            )
        return replace(track, distortion=found)
    return replace(track, distortion=_on(found, np.asarray(frames, dtype=np.float64), track))


def _on(found: Distortion, known: np.ndarray, track: Track) -> Distortion:
    if len(known) != found.frames:
        raise BadInput(
            f"the distortion is given for {found.frames} frames and numbers {len(known)}: give one number for each frame."
        )
    outside = (track.frames < known[0] - 1e-6) | (track.frames > known[-1] + 1e-6)
    if outside.any():
        raise BadInput(
            f"the distortion is given for frames {format_frame(known[0])} to {format_frame(known[-1])} and not for frame "
            f"{format_frame(track.frames[int(np.argmax(outside))])} of the camera: trim the camera, or give it for all frames."
        )
    return found.changed(lambda values: np.interp(track.frames, known, values))


def _distortion_words(p: DistortionOfPlate) -> str:
    of = f" from {p.of}" if p.of else ""
    moving = " over the frames" if any(isinstance(v, list) for v in p.document.values()) else ""
    named = [f"{k} {v:.4g}" for k, v in p.document.items() if isinstance(v, int | float)]
    listed = f" ({', '.join(named[:4])}{', …' if len(named) > 4 else ''})" if named else ""
    return f"{p.document.get('model', '')}{listed}{moving}{of}"


DISTORTION = Kind(
    "distortion", "Distortion of the plate", "track", DistortionOfPlate, _distortion, _distortion_words, station="lens", by_hand=False,
    once=True, moves_camera=False,
)  # fmt: skip


class NoDistortion(Parameters):
    """The plate is a pinhole's: whatever distortion the file or the recipe brought is taken away."""


def _distortion_off(work: Work, p: NoDistortion) -> Work:
    return work.with_track(replace(work.done, distortion=None))


DISTORTION_OFF = Kind(
    "distortion_off", "No distortion", "track", NoDistortion, _distortion_off, lambda p: "the plate is undistorted",
    station="lens", by_hand=False, once=True, moves_camera=False,
)  # fmt: skip
