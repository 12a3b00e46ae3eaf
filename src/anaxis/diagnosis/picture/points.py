"""Landmarks as a picture shows them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.typing import Floats, Ints

FEWEST = 4
_WITHIN_PX = 1e6


@dataclass(frozen=True, eq=False)
class PicturePoints:
    """Where a picture of the size ``image`` shows some landmarks.

    ``px`` (m, 2) are pixels from its upper left, ``marks`` (m,) the numbers of the landmarks, and ``hidden`` those of landmarks
    that it does not show. ``found``: Anaxis found them by the edges of the set; no person placed them. ``frame`` is the frame of
    the shot, None where it is unknown.
    """

    name: str
    image: Image
    frame: float | None
    marks: Ints
    px: Floats
    hidden: Ints
    found: bool = False

    def __len__(self) -> int:
        return len(self.marks)


def picture_points(
    name: str,
    image: Image,
    frame: float | None,
    landmarks: Landmarks,
    placed: dict[str, tuple[float, float] | None],
    found: bool = False,
) -> PicturePoints:
    """What a person placed, by the landmark's name; None for one that the picture does not show.

    Raises BadInput for a name that no landmark has, a place that is no number, and fewer than four places.
    """
    at = {n: i for i, n in enumerate(landmarks.names)}
    stranger = next((n for n in placed if n not in at), None)
    if stranger is not None:
        known = ", ".join(landmarks.names[:12]) or "none"
        raise BadInput(f"{name}: there is no landmark '{stranger[:60]}': choose from {known}.")
    shown = {at[n]: p for n, p in placed.items() if p is not None}
    for i, place in shown.items():
        if not all(np.isfinite(v) and abs(v) < _WITHIN_PX for v in place):
            raise BadInput(f"{name}: the place of {landmarks.names[i]} is not a pixel: type x and y in pixels.")
    if len(shown) < FEWEST:
        raise BadInput(
            f"{name} has {len(shown)} landmark{'s' * (len(shown) != 1)} placed: place at least {FEWEST}, better 6 or more."
        )
    marks = np.array(sorted(shown), dtype=np.int64)
    px = np.array([shown[int(i)] for i in marks], dtype=np.float64)
    hidden = np.array(sorted(at[n] for n, p in placed.items() if p is None), dtype=np.int64)
    return PicturePoints(name, image, frame, marks, px, hidden, found)
