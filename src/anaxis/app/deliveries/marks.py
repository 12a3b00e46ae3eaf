"""Where landmarks are seen in a picture: as they were meant and as they arrived, and in a still."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.app.cameras.lens import place_of
from anaxis.core.camera.projection import Projection, projection_as_shot, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Floats
from anaxis.store.models import Version
from anaxis.store.queries import picture_of_version, track_of


class MarkRow(NamedTuple):
    """A landmark at one frame: the pixel meant and the one that arrived (None behind the camera), and what lies between."""

    name: str
    meant: Floats | None
    seen: Floats | None
    off_px: float | None


def mark_rows(track: Track, marks: Landmarks, picture: Picture, arrived: Projection, at: int) -> list[MarkRow]:
    """Every landmark at the sample ``at`` of a track, as it was meant and as delivered."""
    if not marks.names:
        return []
    place = marks.position_m[at if len(marks.position_m) > 1 else 0][None]
    meant_there = projection_of(track.select_frames(np.array([at])), picture.image, picture.fit)
    both = [sees.project(place) for sees in (meant_there, arrived.select_frames(slice(at, at + 1)))]
    rows = []
    for k, name in enumerate(marks.names):
        meant, seen = (pixels[0, k] if depth[0, k] > 1e-3 else None for pixels, depth in both)
        off = None if meant is None or seen is None else float(np.hypot(*(meant - seen)))
        rows.append(MarkRow(name, meant, seen, off))
    return rows


def marks_in_still(
    version: Version, frame: float, size: dict[str, int], as_shot: bool = False
) -> list[tuple[str, float, float]]:
    """Where the landmarks should be seen in the picture, in its own pixels."""
    track, landmarks, _ = track_of(version)
    picture, marks = picture_of_version(version), landmarks.shown()
    if not marks.names:
        return []
    at = place_of(track, str(frame))
    place = marks.position_m[at if len(marks.position_m) > 1 else 0][None]
    sees = (projection_as_shot if as_shot else projection_of)(
        track.select_frames(np.array([at])), picture.image, picture.fit
    )
    seen, depth = sees.project(place)
    across, down = size["width_px"] / picture.image.width_px, size["height_px"] / picture.image.height_px
    return [
        (name, float(seen[0, k, 0]) * across, float(seen[0, k, 1]) * down)
        for k, name in enumerate(marks.names)
        if depth[0, k] > 1e-3 and np.abs(seen[0, k]).max() < 1e6
    ]
