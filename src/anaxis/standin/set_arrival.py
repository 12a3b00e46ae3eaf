"""Where the objects of a delivered set are in a package: what the format's library reads, after the package's habits."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, Ints
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import HABITS, arrived
from anaxis.packages.model import Profile
from anaxis.standin.set_points import Points, Wanted, set_points


class FileOfSet(NamedTuple):
    """A file of a set, with its frames (n,) and when they come, its rate, its axes and what it says of these. A package's habits are
    known of files that state axes; one ``without_habits`` is taken as it is."""

    path: Path
    frames: Floats
    seconds: Floats
    rate: Fraction
    convention: Convention
    up: str | None
    unit_m: float | None
    without_habits: bool


class _Arrival(NamedTuple):
    """What a package does to a file's world: canonical points times ``turn`` (3, 3) plus ``shift`` (3,), and the frames (k,) that
    arrive, each of the sample at ``taken`` (k,)."""

    turn: Floats
    shift: Floats
    frames: Floats
    taken: Ints


def set_in_package(file: FileOfSet, profile: Profile, at: Floats, wanted: Wanted) -> Points:
    """Some points of the objects of a file by name, in canonical metres, on the package's frames ``at`` (m,): (m, k, 3), or (1, k, 3)
    for an object that does not move. Straight between samples, held outside them. Objects that the file does not hold are
    left out. Raises BadInput where not one frame arrives."""
    happens = _arrival(file, profile)
    world = file.convention.world * file.convention.metres_per_unit
    found: Points = {}
    for name, points in set_points(file.path, file.frames, file.seconds, wanted).items():
        shown = points if len(points) == 1 else _on_frames(points[happens.taken], happens.frames, at)
        found[name] = shown @ world @ happens.turn.T + happens.shift
    return found


def _arrival(file: FileOfSet, profile: Profile) -> _Arrival:
    """The origin and a metre along each axis, sent through the habits as cameras are: habits on a world keep lines straight."""
    count = len(file.frames)
    habits = [] if file.without_habits else [h for h in profile.active_habits if HABITS[h[0]].on_objects]
    # The focal length stands for the number of the sample: no habit of these changes it.
    numbered = make_lens(count, focal_mm=np.arange(1.0, count + 1))
    places: list[Floats] = []
    for probe in np.concatenate([np.zeros((1, 3)), np.eye(3)]):
        track = Track(
            "set", file.frames, file.rate, np.tile(probe, (count, 1)), np.tile(np.eye(3), (count, 1, 1)), numbered
        )
        still = np.tile(np.eye(4), (count, 1, 1))
        arriving = Arriving(track, Image(1, 1), profile.lens.fit, still, still, file.up, file.unit_m)
        track = arrived(arriving, habits, profile.convention).track
        places.append(track.position_m[0])
    turn = np.stack([p - places[0] for p in places[1:]], axis=1)
    return _Arrival(turn, places[0], track.frames, track.lens.focal_mm.astype(np.int64) - 1)


def _on_frames(points: Floats, own: Floats, at: Floats) -> Floats:
    """Points (k, p, 3) on frames ``own`` (k,), as they are shown on frames ``at`` (m,)."""
    if len(own) == 1:
        return points
    place = np.clip(at, own[0], own[-1])
    right = np.clip(np.searchsorted(own, place), 1, len(own) - 1)
    share = (place - own[right - 1]) / (own[right] - own[right - 1])
    share = np.where(np.abs(share - np.round(share)) < 1e-9, np.round(share), share)[:, None, None]
    return np.asarray(points[right - 1] * (1 - share) + points[right] * share)
