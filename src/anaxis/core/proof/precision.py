"""What single precision can cost a picture, in pixels: the bound a file of 32-bit numbers is held to."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.proof.proof import grid_depths_m
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.typing import Floats

# Half a unit in the last place of a 24-bit significand, relative.
EPS = 2.0**-24


def single_precision_bound_px(
    track: Track, image: Image, fit: str, landmarks_m: Floats, zero_frame: float = 0.0
) -> Floats:
    """The most, (n,) px, by which rounding position, quaternion and field of view to 32 bits moves a test point.

    With zoom z in pixels, the image's half diagonal d, tan t = d / z and a point at depth D: rounding the
    position P moves it by at most |P| eps, seen as z (1 + t) |P| eps / D; rounding a unit quaternion turns the
    camera by at most 2 sqrt(4) eps, seen as z (1 + t^2) times that; rounding the field of view v changes tan(v / 2)
    relatively by at most v eps / sin v, of d; rounding a time s moves the moment by s eps, and with it whatever moves.
    ``zero_frame`` is the frame at 0 s.
    """
    lens, used = track.lens, track.lens.used(image, fit)
    zoom = lens.focal_mm / used.width_mm * image.width_px
    half = np.hypot(used.width_mm, used.height_mm) / 2 / lens.focal_mm
    depth = grid_depths_m(track, projection_of(track, image, fit), landmarks_m).min(axis=1)
    view = 2 * np.arctan(used.height_mm / 2 / lens.focal_mm)
    place = zoom * (1 + half) * np.linalg.norm(track.position_m, axis=1) * EPS / depth
    turn = zoom * (1 + half**2) * 4 * EPS
    still = place + turn + zoom * half * view / np.sin(view) * EPS
    if len(track) == 1:
        return np.asarray(still)
    # Moved and turned from one sample to the next, the larger of both sides, as seen at the nearest depth.
    late_f = np.abs(track.frames - zero_frame) * EPS
    span = np.diff(track.frames)
    moved = np.linalg.norm(np.diff(track.position_m, axis=0), axis=1) / span
    turned = np.radians(angle_between_deg(track.rotation[:-1], track.rotation[1:])) / span
    if track.marked is not None:  # files hold what follows a marked cut from just before it
        over = np.flatnonzero(track.marked[1:] > 0)
        moved[over], turned[over] = 0.0, 0.0
    speed, spin = (np.maximum(np.append(v, v[-1]), np.insert(v, 0, v[0])) for v in (moved, turned))
    late = late_f * zoom * ((1 + half) * speed / depth + (1 + half**2) * spin)
    return np.asarray(still + late)
