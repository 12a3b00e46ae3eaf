"""A camera in transit out: the same picture, in the receiver's axes, unit and lens rules."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from anaxis.core.camera.lens import Image, field_of_view_deg, hand_over, zoom_px
from anaxis.core.camera.track import Track
from anaxis.core.image_plane import ImagePlane
from anaxis.core.motion.keys import Keys
from anaxis.core.motion.placement import Similarity
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices
from anaxis.core.time.rates import plain_frame, seconds_of
from anaxis.core.typing import Bools, Floats, Ints


@dataclass(frozen=True, eq=False)
class Outgoing:
    """What a writer needs: ``track`` stays canonical but carries the film back handed over.

    ``image`` and ``fit`` are the receiver's; ``notes`` say what was changed on the way and why. With ``keys``
    only these are written, and ``track`` is what they draw on every frame. With ``root`` the camera stands
    below a transform of that turn and shift; ``track`` is in world space all the same, the keys are below it.
    ``layout`` is what the columns of the receiver's tables are, where it has tables of its own; ``zero_frame``
    the frame that lies at 0 s in a file that counts seconds. ``plane`` is an image plane below the camera.
    """

    track: Track
    convention: Convention
    image: Image
    fit: str
    landmarks: Landmarks
    notes: tuple[str, ...]
    keys: Keys | None = None
    root: Similarity | None = None
    layout: dict[str, Any] | None = None
    zero_frame: float = 0.0
    plane: ImagePlane | None = None

    @property
    def seconds_in_file(self) -> Floats:
        """When each frame comes in a file that counts seconds, (n,)."""
        return seconds_of(self.track.frames - self.zero_frame, self.track.rate)

    @property
    def written(self) -> Ints:
        """The places of the frames that a file without curves has a sample on."""
        return np.arange(len(self.track)) if self.keys is None else self.keys.index

    def numbers(self) -> Numbers:
        """The camera as the receiving package shows it."""
        track, convention = self.track, self.convention
        matrix = pose_matrices(track, convention)
        angles = angles_from_matrices(matrix[:, :3, :3], convention.order, convention.signs)
        used = track.lens.used(self.image, self.fit)
        return Numbers(
            frames=track.frames,
            seconds=seconds_of(track.frames, track.rate),
            position=matrix[:, :3, 3],
            rotation_deg=angles.deg,
            near_lock=angles.near_lock,
            matrix=matrix,
            focal_mm=track.lens.focal_mm,
            film_width_mm=track.lens.film_width_mm,
            film_height_mm=track.lens.film_height_mm,
            offset_x_mm=track.lens.offset_x_mm,
            offset_y_mm=track.lens.offset_y_mm,
            hfov_deg=field_of_view_deg(used.width_mm, track.lens.focal_mm),
            vfov_deg=field_of_view_deg(used.height_mm, track.lens.focal_mm),
            zoom_px=zoom_px(track.lens.focal_mm, used.width_mm, self.image),
            focus=track.lens.focus_m / convention.metres_per_unit,
            fstop=track.lens.fstop,
        )

    @property
    def below_root(self) -> Track:
        """The camera as it stands below its root."""
        return self.track if self.root is None else self.root.inverse().track(self.track)


@dataclass(frozen=True, eq=False)
class Numbers:
    """A camera in a package's own numbers; arrays over n frames.

    ``position`` (n, 3) and ``focus`` (n,) in package units, ``rotation_deg`` (n, 3) shown angles
    about x, y, z, ``matrix`` (n, 4, 4) for column vectors.
    """

    frames: Floats
    seconds: Floats
    position: Floats
    rotation_deg: Floats
    near_lock: Bools
    matrix: Floats
    focal_mm: Floats
    film_width_mm: Floats
    film_height_mm: Floats
    offset_x_mm: Floats
    offset_y_mm: Floats
    hfov_deg: Floats
    vfov_deg: Floats
    zoom_px: Floats
    focus: Floats
    fstop: Floats


def make_outgoing(
    track: Track, convention: Convention, image: Image, source_fit: str, receiver_fit: str, landmarks: Landmarks
) -> Outgoing:
    """Prepare a track for a receiver; its film back is changed only where the picture demands it."""
    lens = track.lens
    handed = hand_over(lens.film_width_mm, lens.film_height_mm, lens.squeeze, image, source_fit, receiver_fit)
    changed = replace(lens, film_width_mm=handed.film_width_mm, film_height_mm=handed.film_height_mm)
    return Outgoing(
        replace(track, lens=changed),
        convention,
        handed.image,
        receiver_fit,
        landmarks,
        (handed.note,) if handed.note else (),
    )


def pose_matrices(track: Track, convention: Convention) -> Floats:
    """Camera to world in a convention's axes and unit, (n, 4, 4) for column vectors."""
    matrix = np.zeros((len(track), 4, 4))
    matrix[:, :3, :3] = convention.rotation_from_canonical(track.rotation)
    matrix[:, :3, 3] = convention.position_from_canonical(track.position_m)
    matrix[:, 3, 3] = 1.0
    return matrix


def root_matrix(root: Similarity, convention: Convention) -> Floats:
    """A root's transform in a convention's axes and unit, (4, 4) for column vectors."""
    matrix = np.eye(4)
    matrix[:3, :3] = convention.world @ root.turn @ convention.world.T
    matrix[:3, 3] = convention.position_from_canonical(root.shift_m)
    return matrix


def numbers_at(numbers: Numbers, i: int) -> dict[str, Any]:
    """A camera's numbers at one frame, as JSON."""
    focus = float(numbers.focus[i])
    plain = (
        "focal_mm",
        "film_width_mm",
        "film_height_mm",
        "offset_x_mm",
        "offset_y_mm",
        "hfov_deg",
        "vfov_deg",
        "zoom_px",
    )
    return {
        "frame": plain_frame(numbers.frames[i]),
        "seconds": float(numbers.seconds[i]),
        "position": numbers.position[i].tolist(),
        "rotation_deg": numbers.rotation_deg[i].tolist(),
        "matrix": numbers.matrix[i].tolist(),
        **{k: float(getattr(numbers, k)[i]) for k in plain},
        "focus": None if math.isnan(focus) else focus,
        "fstop": None if math.isnan(numbers.fstop[i]) else float(numbers.fstop[i]),
    }
