"""The plate is a pinhole's: whatever distortion the file or the recipe brought is taken away."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import Parameters
from anaxis.core.recipe.model import Kind, Work


class NoDistortion(Parameters):
    pass


def apply(work: Work, p: NoDistortion) -> Work:
    return work.with_track(replace(work.done, distortion=None))


KIND = Kind(
    "distortion_off", "No distortion", "track", NoDistortion, apply, lambda p: "the plate is undistorted",
    station="lens", by_hand=False, once=True, moves_camera=False,
)  # fmt: skip
