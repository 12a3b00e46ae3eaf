"""A part of the plate as a form asks for it."""

from __future__ import annotations

from anaxis.core.camera.lens_edits import Part, of_part
from anaxis.core.camera.track import Track
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import Picture
from anaxis.web.pages import number_or_none


def part_of_form(track: Track, picture: Picture, x: str, y: str, width: str, height: str) -> tuple[Part, Track]:
    """The part typed, the whole plate where a field is empty, centred where its corner is; and its camera. Raises BadInput."""
    plate = picture.image
    wide = number_or_none(width, "the part's width")
    high = number_or_none(height, "the part's height")
    wide, high = (plate.width_px if wide is None else wide), (plate.height_px if high is None else high)
    left, top = number_or_none(x, "the part's left edge"), number_or_none(y, "the part's upper edge")
    part = Part(
        (plate.width_px - wide) / 2 if left is None else left,
        (plate.height_px - high) / 2 if top is None else top,
        wide,
        high,
    )
    return part, of_part(track, plate, picture.fit, part)


def part_operation(picture: Picture, part: Part) -> Operation:
    plate = picture.image
    return Operation(
        "part",
        {
            "plate_width_px": plate.width_px, "plate_height_px": plate.height_px, "pixel_aspect": plate.pixel_aspect,
            "fit": picture.fit, "x_px": part.x_px, "y_px": part.y_px, "width_px": part.width_px, "height_px": part.height_px,
        },
    )  # fmt: skip
