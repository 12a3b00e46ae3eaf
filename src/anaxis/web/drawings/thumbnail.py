"""The picture of a shot on a list: what its camera sees in the middle of it, as lines."""

from __future__ import annotations

import numpy as np
from markupsafe import Markup

from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Floats
from anaxis.web.drawings.svg import drawn

WIDTH = 160
_NEAR_M = 0.05
_MOST_LINES = 4000


def thumbnail(track: Track, landmarks: Landmarks, lines_m: Floats, picture: Picture) -> Markup:
    """The set's lines and the landmarks in the picture of the middle frame."""
    at = len(track) // 2
    image = picture.image
    height = WIDTH / image.aspect
    sees = projection_of(track.select_frames(np.array([at])), image, picture.fit)
    scale = np.array([WIDTH / image.width_px, height / image.height_px])
    marks = landmarks.shown()
    crosses: list[list[float]] = []
    if marks.names:
        seen, depth = sees.project(marks.position_m[at if len(marks.position_m) > 1 else 0])
        inside = (depth[0] > _NEAR_M) & ((seen[0] >= 0) & (seen[0] <= [image.width_px, image.height_px])).all(axis=1)
        crosses = np.round(seen[0][inside] * scale, 1).tolist()
    return drawn(
        "thumbnail",
        width=WIDTH,
        height=round(height, 1),
        crosses=crosses,
        path=_path(_in_front(lines_m[:_MOST_LINES], sees), sees, scale),
        at_frame=track.frames[at],
    )


def _in_front(lines_m: Floats, sees: Projection) -> Floats:
    """The parts of lines (s, 2, 3) that lie in front of the camera."""
    ahead = sees.depths_m(lines_m.reshape(1, -1, 3)).reshape(-1, 2)
    some = (ahead > _NEAR_M).any(axis=1)
    lines, ahead = lines_m[some].copy(), ahead[some]
    for end in (0, 1):
        behind = ahead[:, end] <= _NEAR_M
        share = (_NEAR_M - ahead[behind, 1 - end]) / (ahead[behind, end] - ahead[behind, 1 - end])
        lines[behind, end] = lines[behind, 1 - end] + share[:, None] * (lines[behind, end] - lines[behind, 1 - end])
    return lines


def _path(lines_m: Floats, sees: Projection, scale: Floats) -> str:
    if not len(lines_m):
        return ""
    seen = (sees.project(lines_m.reshape(1, -1, 3))[0][0] * scale).reshape(-1, 2, 2)
    return "".join(f"M{a:.1f} {b:.1f}L{c:.1f} {d:.1f}" for (a, b), (c, d) in seen.tolist())
