"""A camera that renders more than its plate, and the way back onto the plate in words."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.camera.plate.overscan import Needed, Overscan, overscan_of, typed_overscan
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import Picture
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera

AUTO = "auto"


def needed_of(track: Track, picture: Picture, options: DeliveryOptions) -> Needed:
    """The smallest render that a camera's distortion needs. Raises BadInput where it has none, or where it folds over."""
    if track.distortion is None:
        raise BadInput(
            f"'{track.name}' has no distortion to compute the overscan from: set one on Lens, or type the overscan as a percentage or in pixels."
            ""
        )
    window = window_of(track.lens, picture.image, picture.fit).simplest()
    return overscan_of(track.distortion, window, picture.image, options.multiple, options.tight)


def render_of(track: Track, picture: Picture, options: DeliveryOptions) -> Overscan | None:
    """The render that was asked for; None for the plate's own size."""
    asked = options.overscan.strip().lower()
    if not asked:
        return None
    if asked == AUTO:
        return needed_of(track, picture, options).overscan
    return typed_overscan(asked, picture.image, options.multiple)


def with_overscan(camera: ShotCamera, options: DeliveryOptions) -> tuple[ShotCamera, tuple[str, ...]]:
    """The camera that renders as much more as was asked for, and what was changed for it: pixels and film back, both."""
    render = render_of(camera.track, camera.picture, options)
    if render is None:
        return camera, ()
    image = camera.picture.image
    said = (
        f"With overscan: render {render.image.width_px} x {render.image.height_px} px for the plate of {image.width_px} x "
        f"{image.height_px} px. The film back has grown by {render.wider:.6f} x {render.higher:.6f}, like the image; the focal length stays"
        f"{'' if render.centred else ', the offsets move'}. Set both in the package, or neither."
    )
    return with_render(camera, render), (said,)


def with_render(camera: ShotCamera, render: Overscan | None) -> ShotCamera:
    """The camera of a render that is known; itself where that is the plate's own size."""
    if render is None:
        return camera
    fit = camera.picture.fit
    track = replace(camera.track, lens=render.lens(camera.track.lens, fit))
    finer = camera.finer and replace(camera.finer, lens=render.lens(camera.finer.lens, fit))
    return replace(camera, track=track, finer=finer, picture=replace(camera.picture, image=render.image), render=render)


def way_back(track: Track, render: Overscan | None) -> list[str]:
    """How a render comes back onto the plate, step by step; nothing where plate and render are one picture."""
    if render is None:
        return []
    plate, image = render.plate, render.image
    x, y = 0.0 - render.x_px, 0.0 - render.y_px  # zero has no sign
    if track.distortion is None:
        return [
            f"Render {image.width_px} x {image.height_px} px.",
            f"Crop it to the plate format, {plate.width_px} x {plate.height_px} px, from x {x:g}, y {y:g} px from its upper left corner: it matches the plate."
            "",
        ]
    several = "the map of the same frame" if track.distortion.frames > 1 else "the one map for all frames"
    return [
        f"Render {image.width_px} x {image.height_px} px, undistorted; the plate begins at x {x:g}, y {y:g} px from its upper left corner."
        "",
        f"For each pixel of the plate format, {plate.width_px} x {plate.height_px} px, read the render at the place in the distort map ("
        f"{several}; red s, green t from the lower left). Do not scale or crop first.",
        "Merge it over the plate as shot.",
    ]
