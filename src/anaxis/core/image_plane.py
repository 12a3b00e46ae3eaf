"""An image plane: a quad below the camera that fills its picture exactly, with the plate on it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.typing import Floats

# The unit quad that is placed: its corners, counter-clockwise as the camera sees them, and where a picture lies on them
# (u to the right, v up).
CORNERS = np.array([[-0.5, -0.5, 0.0], [0.5, -0.5, 0.0], [0.5, 0.5, 0.0], [-0.5, 0.5, 0.0]])
ON_PICTURE = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
MAX_DISTANCE_M = 1e6


@dataclass(frozen=True, eq=False)
class Pictures:
    """What is shown on it: its name, ``files`` by the camera's frame as the receiver finds them, and one picture of them
    as JPEG for files that hold no sequence."""

    name: str
    files: dict[int, str]
    still: bytes = b""


@dataclass(frozen=True, eq=False)
class ImagePlane:
    """``local_m`` (n, 4, 4) takes the unit quad to the camera's own space (it looks along -Z) on every frame, in metres."""

    local_m: Floats
    distance_m: float
    opacity: float
    pictures: Pictures | None = None

    @property
    def size_m(self) -> Floats:
        """Width and height, (n, 2)."""
        return np.stack([self.local_m[:, 0, 0], self.local_m[:, 1, 1]], axis=1)

    def in_units(self, metres_per_unit: float) -> Floats:
        """``local_m`` in a package's unit."""
        out = self.local_m / metres_per_unit
        out[:, 2, 2] = out[:, 3, 3] = 1.0
        return out


def require_distance(distance_m: float, opacity: float) -> None:
    """Raise BadInput for a distance or an opacity that cannot be."""
    if not 0 < distance_m <= MAX_DISTANCE_M:
        raise BadInput(f"An image plane {distance_m:g} m away is not possible: the distance must be above zero.")
    if not 0 <= opacity <= 1:
        raise BadInput(f"An opacity of {opacity:g} is not possible: choose 0 to 1.")


def image_plane(
    track: Track, image: Image, fit: str, distance_m: float, opacity: float = 1.0, pictures: Pictures | None = None
) -> ImagePlane:
    """The quad at a distance that the camera's window cuts out there. Raises BadInput for a distance that cannot be."""
    require_distance(distance_m, opacity)
    window = window_of(track.lens, image, fit)
    local = np.tile(np.eye(4), (len(track), 1, 1))
    local[:, 0, 0] = distance_m * (window.right - window.left)
    local[:, 1, 1] = distance_m * (window.top - window.bottom)
    local[:, 0, 3] = distance_m * (window.right + window.left) / 2
    local[:, 1, 3] = distance_m * (window.top + window.bottom) / 2
    local[:, 2, 3] = -distance_m
    return ImagePlane(local, distance_m, opacity, pictures)


def said_of_distance(plane: ImagePlane, track: Track, marks: Landmarks, lines_m: Floats) -> Iterator[str]:
    """Where the plane lies against the clips and the set, if anything is wrong with that, and what to do."""
    near, far = track.lens.near_m, track.lens.far_m
    d = plane.distance_m
    if np.isfinite(near).any() and d <= np.nanmax(near):
        yield (
            f"The image plane at {d:g} m is nearer than the near clip, {np.nanmax(near):g} m: it is not drawn. Move it further away, or set the near clip below "
            f"{d:g} m."
        )
    if np.isfinite(far).any() and d >= np.nanmin(far):
        yield (
            f"The image plane at {d:g} m is behind the far clip, {np.nanmin(far):g} m: it is not drawn. Move it closer, or set the far clip beyond "
            f"{d:g} m."
        )
    depths = _depths(track, marks, lines_m)
    if depths is not None and d < depths[1]:
        nearest, furthest = depths
        what = "in front of all of the set" if d <= nearest else "within the set"
        yield (
            f"The image plane at {d:g} m is {what}, which reaches from {nearest:.3g} to {furthest:.3g} m from the camera: it hides what is behind it. Move it to "
            f"{furthest * 1.1:.3g} m or further, or set an opacity below 1."
        )


def _depths(track: Track, marks: Landmarks, lines_m: Floats) -> tuple[float, float] | None:
    """The nearest and the furthest of what stands before the camera, over some of its frames; None where nothing does."""
    points = np.concatenate([lines_m.reshape(-1, 3), marks.position_m[0]])
    if not len(points):
        return None
    some = np.unique(np.linspace(0, len(track) - 1, min(len(track), 24)).astype(int))
    back = track.rotation[some][:, :, 2]
    depths = -(points @ back.T - np.einsum("ij,ij->i", track.position_m[some], back))
    ahead = depths[depths > 0]
    return (float(ahead.min()), float(ahead.max())) if len(ahead) else None
