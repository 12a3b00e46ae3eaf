"""The maps that go along with a camera whose plate is distorted."""

from __future__ import annotations

from pathlib import Path

from anaxis.core.camera.plate.overscan import no_overscan
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.track import Track, lens_moves
from anaxis.core.errors import BadInput
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats.st_map.pair import KINDS, MapsOf, write_pair

# What is left of a map in single precision on the largest pictures.
_READS_BACK_PX = 0.02


def has_maps(track: Track) -> bool:
    """Whether a camera has a distortion of which one pair of maps is good for all frames: the pair then goes along."""
    return track.distortion is not None and track.distortion.frames == 1 and not lens_moves(track)


def maps_of(camera: ShotCamera, folder: Path) -> dict[str, Path]:
    """Both maps of a camera that has such a pair, written, by kind. Raises BadInput where one reads back otherwise."""
    assert camera.track.distortion is not None
    render = camera.render or no_overscan(camera.plate)
    # A render's window is the plate's and more about it: the plate's own is found again by taking that off.
    window = window_of(camera.track.lens, render.image, camera.picture.fit).simplest()
    plate = render.plate_within(window)
    written = write_pair(MapsOf(camera.track.distortion, plate, render), 0, folder, "plate", "", force=True)
    for kind in KINDS:
        if written[kind]["max_px"] > _READS_BACK_PX:
            raise BadInput(
                f"The map that {kind}s reads back {written[kind]['max_px']:.3f} px off: at this size single precision is not enough."
            )
    return {kind: folder / written[kind]["file"] for kind in KINDS}
