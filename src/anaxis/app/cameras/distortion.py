"""The distortion of a camera's plate: typed, from a file, from maps or from a picture of a board; and what it asks of a render."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from anaxis.app.cameras.edit import edit_version
from anaxis.app.cameras.take_in import on_disk
from anaxis.app.context import Context
from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.distortion.suggested import Suggested
from anaxis.core.camera.lens import Image, field_of_view_deg
from anaxis.core.camera.plate.bend import bend_of
from anaxis.core.camera.plate.overscan import Needed, empty_pixels, overscan_of
from anaxis.core.camera.plate.window import Window, window_of
from anaxis.core.camera.track import Lens, Track
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.recipe.operations.distortion import DISTORTION, DISTORTION_OFF, distorted
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.picture import Picture
from anaxis.diagnosis.board import Board, calibrated
from anaxis.formats.st_map.fitted import Given
from anaxis.library.plate_of_camera import PlateOfCamera
from anaxis.sandbox.pictures import safe_board, safe_st_map
from anaxis.store.models import Version
from anaxis.store.queries import picture_of_version, recipe_of, track_of


def take_distortion(context: Context, version: Version, document: dict[str, Any], of: str = "") -> Version:
    """The distortion of a document becomes the camera's. Raises BadInput where it does not fit."""
    frames = document.get("frames")
    document = {k: v for k, v in document.items() if k != "frames"}
    track, picture = track_of(version)[0], picture_of_version(version)
    bend_of(distorted(track, document, frames), picture.image, picture.fit)  # raises where it folds over
    params = {"document": document, **({"of": of[:120]} if of else {}), **({"frames": frames} if frames else {})}
    made = Operation(DISTORTION.code, params)
    recipe = tuple(o for o in recipe_of(version) if o.code != DISTORTION_OFF.code)
    return edit_version(context, version, inserted(recipe, made), f"Distortion: {DISTORTION.says(params)}"[:200])


def drop_distortion(context: Context, version: Version) -> Version:
    """The camera has no distortion, whatever its file or recipe brought."""
    recipe = tuple(o for o in recipe_of(version) if o.code != DISTORTION.code)
    return edit_version(context, version, inserted(recipe, Operation(DISTORTION_OFF.code)), "No distortion")


def fitted_to_maps(
    context: Context,
    version: Version,
    maps: Sequence[tuple[str, bytes]],
    models: Sequence[str],
    direction: str = "",
    origin: str = "",
    render: Image | None = None,
) -> Suggested:
    """Of ``models`` the one that fits one ST map, or a pair, of the plate best; ``direction`` and ``origin`` where the guess is
    wrong."""
    track, picture = track_of(version)[0], picture_of_version(version)
    context.release_connection()
    for name, _ in maps:
        if Path(name).suffix.lower() != ".exr":
            raise BadInput(f"{name} is not a readable ST map: use one .exr file, or two.")
    said = direction if len(maps) == 1 else ""
    read = [Given.of(path.name, safe_st_map(path), said, origin) for path in on_disk(maps)]
    of = PlateOfCamera(track, picture)
    fits = [of.fitted(read, model, render=render) for model in models]
    return min(fits, key=lambda f: float(f.off_px.max()))


def estimated_from_boards(
    context: Context, version: Version, pictures: Sequence[tuple[str, bytes]], board: Board
) -> Suggested:
    """A radial and tangential distortion from pictures of a checkerboard or dot grid. Raises BadInput."""
    track, picture = track_of(version)[0], picture_of_version(version)
    context.release_connection()
    seen = [safe_board(path, board) for path in on_disk(pictures)]
    return calibrated(seen, board, plate_window(track, picture), picture.image)


def plate_window(track: Track, picture: Picture, at: int = 0) -> Window:
    """The plate's window on one frame."""
    return window_of(track.lens.select_frames(np.array([at])), picture.image, picture.fit)


def tried(track: Track, document: dict[str, Any], at: int) -> Track:
    """One sample of a camera with a distortion that is only tried. Raises BadInput."""
    alone = replace(track, distortion=None).select_frames(np.array([at]))
    if document.get("model") == mapped.CODE:
        return distorted(alone, document)
    return distorted(alone, {k: v[at] if isinstance(v, list) else v for k, v in document.items() if k != "frames"})


class BentPlate(NamedTuple):
    """A distortion on one frame of a plate, the render that it needs with its film back (mm), both fields of view (degrees,
    across and up), and how many of the plate's pixels have no picture where nothing more is rendered."""

    distortion: Distortion
    window: Window
    needed: Needed
    film_mm: tuple[float, float]
    render_view_deg: tuple[float, float]
    own_view_deg: tuple[float, float]
    empty_px: int


def bent_plate(track: Track, picture: Picture, document: dict[str, Any], at: int) -> BentPlate:
    """A distortion that is tried on the frame at a place. Raises BadInput where it cannot be."""
    one = tried(track, document, at)
    assert one.distortion is not None
    window, image = plate_window(track, picture, at), picture.image
    needed = overscan_of(one.distortion, window, image)
    lens = needed.overscan.lens(one.lens, picture.fit)
    film_mm = (float(lens.film_width_mm[0]), float(lens.film_height_mm[0]))
    empty = int(empty_pixels(one.distortion, window, image, 0).sum())
    views = _view_deg(lens, needed.image, picture.fit), _view_deg(one.lens, image, picture.fit)
    return BentPlate(one.distortion, window, needed, film_mm, *views, empty)


def _view_deg(lens: Lens, image: Image, fit: str) -> tuple[float, float]:
    across, up = lens.used(image, fit)
    return float(field_of_view_deg(across, lens.focal_mm)[0]), float(field_of_view_deg(up, lens.focal_mm)[0])
