"""The maps that go along with a camera whose plate is distorted."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from anaxis.core.camera.plate.overscan import no_overscan
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.track import FRAMING, Track
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import plain_frame
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats.st_map.pair import KINDS, MapsOf, write_pair

# So many pairs of maps go along at most: a pair of 1920 x 1080 px takes some 16 MB.
MOST_PAIRS = 8
# What is left of a map in single precision on the largest pictures.
_READS_BACK_PX = 0.02


def stretches_of(track: Track) -> list[tuple[int, int]]:
    """The places of the first and last frame of each stretch over which one pair of maps holds, in order; none without a
    distortion."""
    if track.distortion is None:
        return []
    columns = [getattr(track.lens, k) for k in FRAMING] + [v[:, 0] for v in track.distortion.values.values()]
    values = np.stack([np.broadcast_to(c, len(track)) for c in columns], axis=1)
    begins = np.concatenate([[0], np.flatnonzero((values[1:] != values[:-1]).any(axis=1)) + 1])
    ends = np.concatenate([begins[1:] - 1, [len(track) - 1]])
    return list(zip(begins.tolist(), ends.tolist(), strict=True))


def pairs_along(track: Track) -> int:
    """How many pairs of maps are in the package of files: none of a lens that moves on every frame, which would be far too large."""
    pairs = len(stretches_of(track))
    return pairs if pairs <= MOST_PAIRS else 0


def maps_of(camera: ShotCamera, folder: Path) -> dict[str, Path]:
    """Both maps of a camera, written, by kind; with the frames that each holds for where there are several pairs.

    Raises BadInput where one reads back otherwise.
    """
    track = camera.track
    assert track.distortion is not None
    render = camera.render or no_overscan(camera.plate)
    # A render's window is the plate's and more about it: the plate's own is found again by taking that off.
    window = window_of(track.lens, render.image, camera.picture.fit).simplest()
    maps = MapsOf(track.distortion, render.plate_within(window), render)
    out, stretches = {}, stretches_of(track)
    for first, last in stretches:
        frames = f".{plain_frame(track.frames[first])}-{plain_frame(track.frames[last])}" if len(stretches) > 1 else ""
        written = write_pair(maps, first, folder, "plate", frames, force=True)
        for kind in KINDS:
            if written[kind]["max_px"] > _READS_BACK_PX:
                raise BadInput(
                    f"The map that {kind}s deviates by {written[kind]['max_px']:.3f} px when read back: single precision is not enough at this size."
                )
            out[f"{kind}{frames}"] = folder / written[kind]["file"]
    return out
