"""The plate of a camera: how much more than it is to be rendered, its maps both ways, and a distortion fitted to maps of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.distortion.suggested import Suggested
from anaxis.core.camera.lens import Image, field_of_view_deg
from anaxis.core.camera.plate.overscan import WIDEST_FILTER_PX, Needed, Overscan, empty_pixels, no_overscan, overscan_of
from anaxis.core.camera.plate.window import Window, window_of
from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Recipe
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.formats.st_map.fitted import Given, fit_maps
from anaxis.formats.st_map.pair import MapsOf, write_pair


class OverscanReport(NamedTuple):
    """The render that a plate needs, with its film back, offsets (mm) and fields of view (degrees) at the first frame.

    ``empty_px`` are the plate's pixels without a picture where nothing more is rendered; ``short_px`` those where the widest
    filter lacks some of it with the render.
    """

    needed: Needed
    film_width_mm: float
    film_height_mm: float
    offset_x_mm: float
    offset_y_mm: float
    hfov_deg: float
    vfov_deg: float
    empty_px: int
    short_px: int


@dataclass(frozen=True, eq=False)
class PlateOfCamera:
    """A camera and its picture."""

    track: Track
    picture: Picture

    @cached_property
    def window(self) -> Window:
        """Where the plate lies, in tangents of the look, one place where it never moves."""
        return window_of(self.track.lens, self.picture.image, self.picture.fit).simplest()

    def require_distortion(self) -> Distortion:
        """The camera's distortion. Raises BadInput where it has none."""
        if self.track.distortion is None:
            raise BadInput(f"'{self.track.name}' has no distortion: set one on Lens, or use --distortion.")
        return self.track.distortion

    def overscan(self, multiple: int = 2, tight: bool = False) -> Needed:
        """The smallest render that leaves no pixel of the plate empty. Raises BadInput, also where the distortion folds over."""
        return overscan_of(self.require_distortion(), self.window, self.picture.image, multiple, tight)

    def overscan_report(self, multiple: int = 2, tight: bool = False) -> OverscanReport:
        """The same with its figures."""
        found = self.overscan(multiple, tight)
        lens = found.overscan.lens(self.track.lens, self.picture.fit)
        used = lens.used(found.image, self.picture.fit)
        seen = (self.require_distortion(), self.window, self.picture.image, found.worst)
        return OverscanReport(
            found,
            float(lens.film_width_mm[0]),
            float(lens.film_height_mm[0]),
            float(lens.offset_x_mm[0]),
            float(lens.offset_y_mm[0]),
            float(field_of_view_deg(used.width_mm, lens.focal_mm)[0]),
            float(field_of_view_deg(used.height_mm, lens.focal_mm)[0]),
            int(empty_pixels(*seen).sum()),
            int(empty_pixels(*seen, found.overscan, WIDEST_FILTER_PX).sum()),
        )

    def maps(self, render: Overscan | None = None) -> MapsOf:
        """The maps of every frame between the plate and a render; None for one of the plate's own size."""
        return MapsOf(self.require_distortion(), self.window, render or no_overscan(self.picture.image))

    def fitted(
        self, maps: Sequence[Given], model: str, at: int = 0, centre: bool = False, render: Image | None = None
    ) -> Suggested:
        """A distortion model fitted to one map of the plate, or a pair, on the frame at a place. Raises BadInput."""
        size = None if render is None else (render.width_px, render.height_px)
        squeeze = float(self.track.lens.squeeze[0])
        return fit_maps(
            maps,
            model,
            self.window.select_frames(slice(at, at + 1)),
            self.picture.image,
            centre,
            render=size,
            squeeze=squeeze,
        )


def plate_of(scene: Scene, camera: str | None, recipe: Recipe, picture: Picture) -> PlateOfCamera:
    """The plate of a file's camera after its recipe. Raises BadInput."""
    return PlateOfCamera(take_camera(scene, camera, recipe=recipe).done, picture)


class MapsOrder(NamedTuple):
    """For which ``frame`` maps are written, the first where None, or for every frame; the undistorted picture is as large as the
    render must be, or as the plate (``whole_plate``)."""

    frame: float | None = None
    sequence: bool = False
    whole_plate: bool = False
    multiple: int = 2
    tight: bool = False
    force: bool = False


class WrittenMaps(NamedTuple):
    """By kind, undistort and distort, the pair that reads back worst; the ``frame`` of the first, and the render's size."""

    worst: dict[str, dict[str, Any]]
    pairs: int
    frame: float
    render: Image


def write_maps(
    plate: PlateOfCamera,
    out: Path,
    stem: str,
    order: MapsOrder,
    on_the_way: Callable[[list[int]], Iterable[int]] = iter,
) -> WrittenMaps:
    """Write pairs of maps into a folder; ``on_the_way`` goes through the frames' places, and may say how far. Raises BadInput."""
    frames, frame = plate.track.frames, order.frame
    render = None if order.whole_plate else plate.overscan(order.multiple, order.tight).overscan
    if frame is not None and not frames[0] <= frame <= frames[-1]:
        raise BadInput(f"Frame {frame:g} is not a frame of the camera, {frames[0]:g} to {frames[-1]:g}.")
    first = 0 if frame is None else int(np.argmin(np.abs(frames - frame)))
    out.mkdir(parents=True, exist_ok=True)
    maps = plate.maps(render)
    pairs = []
    for at in on_the_way(list(range(len(frames))) if order.sequence else [first]):
        numbered = f".{plain_frame(frames[at]):04}" if order.sequence else ""
        pairs.append(write_pair(maps, at, out, stem, numbered, order.force))
    worst = {kind: max((p[kind] for p in pairs), key=lambda w: w["max_px"]) for kind in pairs[0]}
    return WrittenMaps(worst, len(pairs), float(frames[first]), maps.render.image)


def worst_of(fits: Sequence[Suggested]) -> tuple[float, float, Floats]:
    """Of several fits together: the root mean square and the largest of what remains (px), and where that is (2,)."""
    off = np.concatenate([one.off_px for one in fits])
    worst = int(np.argmax(off))
    return float(np.sqrt((off**2).mean())), float(off[worst]), np.concatenate([one.at_px for one in fits])[worst]
