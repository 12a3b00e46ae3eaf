"""The two maps of a frame, written, read back and measured."""

from __future__ import annotations

from math import isfinite
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import Overscan
from anaxis.core.camera.plate.reach import frames_of
from anaxis.core.camera.plate.st_map import distort_map, undistort_map
from anaxis.core.camera.plate.window import AT_ONCE, Window
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, Singles
from anaxis.formats.st_map.read import read_map_back
from anaxis.formats.st_map.write import write_st_map

KINDS = ("undistort", "distort")


class MapsOf(NamedTuple):
    """A plate's distortion, its window on every frame, and the undistorted picture it is to become."""

    distortion: Distortion
    window: Window
    render: Overscan

    @property
    def moves(self) -> bool:
        """Whether the maps are others on other frames."""
        return frames_of(self.distortion, self.window) > 1

    def map(self, kind: str, at: int) -> Floats:
        """The map of the frame at a place: (h, w, 2). Raises BadInput where the distortion folds over."""
        alone, window = self.distortion.select_frames(np.array([at])), self.window.select_frames(slice(at, at + 1))
        make = undistort_map if kind == "undistort" else distort_map
        return make(alone, window, self.render.plate, self.render.window(window), self.render.image)

    def fetched(self, kind: str) -> Image:
        """The picture that a map fetches in."""
        return self.render.plate if kind == "undistort" else self.render.image

    def written(self, kind: str) -> Image:
        """The picture that a map makes."""
        return self.render.image if kind == "undistort" else self.render.plate

    def goes_round(self, kind: str) -> bool:
        return False

    def leaves_empty(self, kind: str) -> bool:
        return False


def write_pair(maps: MapsOf, at: int, folder: Path, stem: str, numbered: str, force: bool = False) -> dict[str, Any]:
    """Both maps of a frame; for each its file, its size, and by how many pixels at most it reads back otherwise.

    Raises BadInput for a file that already exists, and for a map with pixels that are not numbers.
    """
    out = {}
    for kind in KINDS:
        path = folder / f"{stem}.{kind}{numbered}.exr"
        if path.exists() and not force:
            raise BadInput(f"{path} already exists: choose another folder, or write over it with --force.")
        st = maps.map(kind, at)
        write_st_map(st, path)
        off = _largest_difference_px(st, read_map_back(path), maps.fetched(kind))
        if not isfinite(off):
            raise BadInput(f"{path.name} has pixels that are not numbers: check the coefficients of the distortion.")
        out[kind] = {"file": path.name, "resolution": [st.shape[1], st.shape[0]], "max_px": off}
    return out


def _largest_difference_px(st: Floats, back: Singles, image: Image) -> float:
    """How far apart two maps (h, w, 2) fetch at most in a picture; not a number where one has a pixel that is none."""
    rows, largest = max(1, AT_ONCE // st.shape[1]), []
    for i in range(0, len(st), rows):
        across, up = ((back[i : i + rows, :, k] - st[i : i + rows, :, k]) for k in (0, 1))
        largest.append((np.square(across * image.width_px) + np.square(up * image.height_px)).max())
    return float(np.sqrt(np.max(largest)))
