"""What a hand-held tracker measured: poses and lenses at the times when the device took them, and where samples are missing."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.bounds import MAX_NUMBER
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import intrinsics_px
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import bake_camera, chain_keys
from anaxis.core.scene.nodes import Scene
from anaxis.core.typing import Floats, Ints

# Numbers of a sample: clock, position, quaternion x y z w, focal lengths, principal point.
ROW = 12
# A step of so many usual ones between two samples is a gap.
_GAP_STEPS = 1.6
# A file holds so many samples at most; each change of a setting draws the camera of all of them anew.
_MOST_SAMPLES = 36_000
# A clock in seconds, of this century or of the device's start; two samples are further apart than this.
_MOST_CLOCK_S, _LEAST_STEP_S = 1e12, 1e-6


@dataclass(frozen=True, eq=False)
class Samples:
    """``seconds`` (n,) by the device's clock, rising; ``position_m`` (n, 3), ``rotation`` (n, 3, 3) camera to the device's world;
    ``intrinsics_px`` (n, 4): focal lengths and principal point in pixels of ``image``, from its upper left."""

    seconds: Floats
    position_m: Floats
    rotation: Floats
    intrinsics_px: Floats
    image: Image

    def __len__(self) -> int:
        return len(self.seconds)

    def select_frames(self, places: Ints) -> Samples:
        """The samples at these places, (k,)."""
        return Samples(
            self.seconds[places], self.position_m[places], self.rotation[places], self.intrinsics_px[places], self.image
        )

    @cached_property
    def step_s(self) -> float:
        """The usual time from one sample to the next."""
        return float(np.median(np.diff(self.seconds)))

    @cached_property
    def missing(self) -> Ints:
        """How many samples are missing between each sample and the next, (n - 1,)."""
        return np.maximum(0, np.round(np.diff(self.seconds) / self.step_s).astype(np.int64) - 1)

    @property
    def rows(self) -> Floats:
        """(n, 12), as :func:`samples_of` takes them."""
        turned = scipy.spatial.transform.Rotation.from_matrix(self.rotation).as_quat()
        return np.concatenate([self.seconds[:, None], self.position_m, turned, self.intrinsics_px], axis=1)


class Gap(NamedTuple):
    """From the sample before it to the one behind it, in seconds of the recording, and how many samples are missing."""

    start_s: float
    end_s: float
    missing: int


def samples_of(rows: Floats, image: Image) -> Samples:
    """Samples from rows (n, 12): clock, position, quaternion x y z w, focal lengths, principal point. Those that came late or twice
    are put in order, once. Raises BadInput for under two, or a quaternion that is none."""
    if len(rows) < 2:
        raise BadInput(f"The recording has {len(rows)} samples: at least two are needed. Record again.")
    rows = rows[np.unique(rows[:, 0], return_index=True)[1]]
    large = ~(np.abs(rows[:, 1:]) <= MAX_NUMBER).all(axis=1) | ~(np.abs(rows[:, 0]) <= _MOST_CLOCK_S)
    if large.any():
        raise BadInput(f"Sample {int(np.argmax(large))} of the recording has an impossible number: record again.")
    if len(rows) < 2 or (np.diff(rows[:, 0]) < _LEAST_STEP_S).any():
        raise BadInput("The samples of the recording are less than a microsecond apart: its clock must be in seconds.")
    size = np.linalg.norm(rows[:, 4:8], axis=1)
    if (size < 1e-6).any() or not np.isfinite(rows).all() or (rows[:, 8:10] <= 0).any():
        at = int(np.argmax((size < 1e-6) | ~np.isfinite(rows).all(axis=1) | (rows[:, 8:10] <= 0).any(axis=1)))
        raise BadInput(f"Sample {at} of the recording has an invalid rotation or lens: record again.")
    turned = scipy.spatial.transform.Rotation.from_quat(rows[:, 4:8]).as_matrix()
    return Samples(rows[:, 0] - rows[0, 0], rows[:, 1:4], turned, rows[:, 8:12], image)


def gaps_of(samples: Samples) -> list[Gap]:
    wide = np.flatnonzero(np.diff(samples.seconds) > _GAP_STEPS * samples.step_s)
    return [Gap(float(samples.seconds[i]), float(samples.seconds[i + 1]), int(samples.missing[i])) for i in wide]


def samples_of_track(track: Track, image: Image, fit: str) -> Samples:
    """Samples from a camera that a file holds, at the file's own times. Raises BadInput as :func:`samples_of` does."""
    k = intrinsics_px(track.lens, image, fit)
    return samples_of(Samples(track.frames / float(track.rate), track.position_m, track.rotation, k, image).rows, image)


def samples_in_scene(scene: Scene, path: str, image: Image, fit: str) -> Samples:
    """Samples of a file's camera, in canonical space, at the times of the file's own samples. Raises BadInput."""
    keys = chain_keys(scene, scene.camera(path).path)
    if len(keys) > _MOST_SAMPLES:
        raise BadInput(
            f"{scene.name}, {path}: the recording has {len(keys)} samples; at most {_MOST_SAMPLES} are possible (10 minutes at 60 samples/s). Split the file into takes."
            ""
        )
    if len(keys) < 2:
        raise BadInput(
            f"{scene.name}, {path}: the camera has one sample, so it is not a recording. Save it as a still camera."
        )
    return samples_of_track(bake_camera(scene, path, keys).track, image, fit)
