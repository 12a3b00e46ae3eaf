"""A part of the plate becomes the image; the picture's own size is kept beside the recipe."""

from __future__ import annotations

from typing import Literal

from anaxis.core.camera.lens import Image
from anaxis.core.camera.lens_edits import Part, of_part
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class PartOfPlate(Parameters):
    plate_width_px: Number = asked("plate width", "px")
    plate_height_px: Number = asked("plate height", "px")
    x_px: Number = asked("x", "px")
    y_px: Number = asked("y", "px")
    width_px: Number = asked("width", "px")
    height_px: Number = asked("height", "px")
    pixel_aspect: Number = asked("Pixel aspect")
    fit: Literal["width", "height", "inside", "outside", "stretch"] = asked("Fit of the plate")


def picture(p: PartOfPlate) -> tuple[Image, Image]:
    plate = Image(int(p.plate_width_px), int(p.plate_height_px), p.pixel_aspect)
    return plate, Image(int(p.width_px), int(p.height_px), p.pixel_aspect)


def apply(work: Work, p: PartOfPlate) -> Work:
    part = Part(p.x_px, p.y_px, p.width_px, p.height_px)
    return work.with_track(of_part(work.done, picture(p)[0], p.fit, part))


def words(p: PartOfPlate) -> str:
    return (
        f"{p.width_px:g} × {p.height_px:g} px at {p.x_px:g}, {p.y_px:g} of {p.plate_width_px:g} × {p.plate_height_px:g}"
    )


KIND = Kind(
    "part", "Part of the plate", "track", PartOfPlate, apply, words, station="lens", by_hand=False, picture=picture
)
