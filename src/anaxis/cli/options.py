"""The command line's options, shared by its commands."""

from __future__ import annotations

import re
import sys
from dataclasses import fields
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, ClassVar

import click

from anaxis.core.camera.fits import FITS
from anaxis.core.errors import BadInput
from anaxis.formats import WRITTEN

if TYPE_CHECKING:  # options are there before anything is computed
    from anaxis.core.camera.lens import Image
    from anaxis.delivery.options import DeliveryOptions


class Frames(click.ParamType):
    name = "A-B"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float, float]:
        found = re.fullmatch(r"\s*(-?\d+)(?:-(-?\d+))?\s*", value)
        if not found:
            raise BadInput(f"'{value}' is not a frame range: write it as 1001-1120, or one frame as 1001.")
        first, last = int(found[1]), int(found[2] if found[2] is not None else found[1])
        if last < first:
            raise BadInput(f"The frame range {value} runs backwards: write the smaller number first.")
        return first, last


class Resolution(click.ParamType):
    name = "WxH"

    def convert(self, value: Any, param: Any, ctx: Any) -> Image:
        from anaxis.core.camera.lens import parse_image

        return parse_image(value)


class Shutter(click.ParamType):
    name = "A,B"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float, float]:
        if isinstance(value, tuple):
            return value
        try:
            opens, closes = (float(v) for v in str(value).split(","))
        except ValueError as error:
            raise BadInput(
                f"'{value}' is not a shutter: write where it opens and closes, in frames, as -0.25,0.25."
            ) from error
        return opens, closes


class Formats(click.ParamType):
    """Format keys, or the suffixes people say for them."""

    name = "F,F"
    known: ClassVar[dict[str, str]] = {name: f.key for f in WRITTEN for name in f.names}

    def convert(self, value: Any, param: Any, ctx: Any) -> list[str]:
        if isinstance(value, list):
            return value
        keys = [v.strip().lower() for v in str(value).split(",") if v.strip()]
        wrong = next((k for k in keys if k not in self.known), None)
        if wrong is not None or not keys:
            raise BadInput(
                f"'{wrong or value}' is not a format Anaxis writes: choose from {', '.join(f.names[0] for f in WRITTEN)}."
            )
        return list(dict.fromkeys(self.known[k] for k in keys))


class CameraFile(click.Path):
    """The path of a file; "-" is a file of its own, with what comes on standard input."""

    def __init__(self) -> None:
        super().__init__(path_type=Path)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if value != "-" or ctx is None:
            return super().convert(value, param, ctx)
        from anaxis.formats.first_bytes import suffix_of

        data: bytes = sys.stdin.buffer.read()
        folder = TemporaryDirectory(prefix="anaxis-input-")
        ctx.call_on_close(folder.cleanup)
        path = Path(folder.name) / f"standard_input{suffix_of(data)}"
        path.write_bytes(data)
        return path


file = click.argument("file", type=CameraFile())
allow_files = click.option(
    "--allow-files", "allow_files", metavar="FOLDER", type=click.Path(path_type=Path),
    help="Allow the file to refer to layers in this folder.",
)  # fmt: skip
camera = click.option("--camera", "camera", help="Path or name of the camera; needed if the file has several.")
to = click.option("--to", "to", required=True, metavar="PROFILE", help="Shipped profile key, or a JSON file.")
resolution = click.option(
    "--resolution", type=Resolution(), help="Image size (default: that of the file, or 1920x1080)."
)
fit = click.option(
    "--source-fit", "--fit", "source_fit", type=click.Choice(FITS), help="Fit of the source (guess: width)."
)
up_axis = click.option("--up-axis", type=click.Choice(["X", "Y", "Z"]), help="Up axis, if the file does not state it.")
unit = click.option("--metres-per-unit", type=float, help="Metres per unit, if the file does not state it.")
rate = click.option("--rate", help="Rate, frames/s, if the file does not state it; with --keep, the new rate.")
columns = click.option("--columns", type=click.Path(path_type=Path), help="Column layout of a text table, a JSON file.")
pixel_aspect = click.option(
    "--pixel-aspect", type=float, help="Pixel aspect: width over height (default: that of the file)."
)


recipe = click.option("--recipe", type=click.Path(path_type=Path), help="Recipe, a JSON file.")


def packages(required: bool) -> Any:
    """``--to``, as often as there are packages."""
    return click.option(
        "--to",
        "to",
        required=required,
        multiple=True,
        metavar="PROFILE",
        help="Shipped profile key, or a JSON file. May be repeated.",
    )


def formats(required: bool) -> Any:
    return click.option(
        "--format",
        "formats",
        required=required,
        type=Formats(),
        help=f"One of {', '.join(f.names[0] for f in WRITTEN)}, or several separated by commas.",
    )


def _codes(context: click.Context, option: click.Parameter, given: tuple[str, ...]) -> frozenset[str]:
    return frozenset(code.strip() for text in given for code in text.split(","))


_DELIVERY = (
    click.option("--first-there", type=float, help="First frame number in the package (default: unchanged)."),
    click.option("--under-root", is_flag=True, help="Parent the camera to a root node with the placement of the recipe."),
    click.option("--samples", type=int, default=1, help="Samples for each frame for motion blur; from the source where it has some."),
    click.option("--shutter", type=Shutter(), default="-0.25,0.25", help="Shutter around each frame, in frames (-0.25,0.25)."),
    click.option("--prove-between", "between", type=int, default=1, help="Times in each frame at which the proof compares."),
    click.option(
        "--overscan", default="", metavar="auto|PERCENT|WxH",
        help="Overscan: auto for the minimum of the distortion, a percentage such as 10%, or a size such as 2112x1188.",
    ),
    click.option("--multiple", type=int, default=2, help="Round the overscan size up to multiples of this many px (2)."),
    click.option("--tight", is_flag=True, help="With auto: each side grows on its own; the offsets change."),
    click.option("--image-plane", "plane_m", type=float, help="Image plane: a quad that fills the picture, at this distance in metres."),
    click.option("--plane-opacity", type=float, default=1.0, help="Opacity of the image plane, 0 to 1 (1)."),
    click.option(
        "--set-format", "set_formats", default="usd,obj", metavar="F,F",
        help="Formats of the set in the zip, of usd, alembic, gltf and obj (usd,obj); or none.",
    ),
    click.option("--set-each", is_flag=True, help="One file for each object of the set."),
    click.option("--obj-frames", is_flag=True, help="Moving objects as one OBJ for each frame."),
)  # fmt: skip
reduce_px = click.option("--reduce-px", type=float, help="Keyframe reduction: tolerance in pixels.")


def delivery(command: Any) -> Any:
    """What can be asked of a delivery, but for fewer keys; see :func:`delivery_options`."""
    for option in reversed(_DELIVERY):
        command = option(command)
    return command


def delivery_options(given: dict[str, Any]) -> DeliveryOptions:
    """Take what is asked of a delivery out of a command's options. Raises BadInput for what cannot be."""
    from anaxis.delivery.options import DeliveryOptions

    opens, closes = given.pop("shutter")
    first = given.pop("first_there")  # --first renumbers the camera itself, here and there
    names = [f.name for f in fields(DeliveryOptions) if f.name in given and f.name != "first"]
    asked = {name: given.pop(name) for name in names}
    return DeliveryOptions(first=first, shutter_open=opens, shutter_close=closes, **asked)


new_show = click.option(
    "--new-show", is_flag=True, help="Create a new show, although its name is similar to another one."
)
allow = click.option(
    "--allow", "allow", multiple=True, metavar="CODE", callback=_codes,
    help="Warnings to allow without exit code 4; separate by commas, or repeat the option.",
)  # fmt: skip
json = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of a table.")


def changes(command: Any) -> Any:
    """Options that become operations behind those of --recipe."""
    for option in (
        click.option("--keep", type=click.Choice(["time", "frames"]), help="Change to --rate, keeping time or frames."),
        click.option("--range", "span", type=Frames(), help="Trim to these frames of the source."),
        click.option(
            "--cuts",
            type=click.Path(path_type=Path),
            help="Mark the cuts of an edit (OpenTimelineIO or EDL) that begins at the first frame.",
        ),
        click.option("--handles", type=int, help="Handles: held frames at both ends."),
        click.option("--first", type=int, help="First frame number of the delivery, with handles."),
        click.option(
            "--film-back",
            help="Film back in mm, such as 25.6x14.4. The focal length stays, or the field of view if the file has nothing else.",
        ),
        click.option(
            "--keep-view", is_flag=True, help="With --film-back: keep the field of view and change the focal length."
        ),
        click.option("--focal", type=float, help="Focal length in mm on every frame."),
        reduce_px,
        click.option(
            "--distortion",
            type=click.Path(path_type=Path),
            help='The distortion of the plate as shot: a document, {"model": "radial-tangential", "k1": 0.05, ...}, or a table.',
        ),
        click.option("--distortion-model", help="Model of a coefficient table, if its headings do not state it."),
        click.option("--fov-h", type=float, help="Horizontal field of view in degrees on every frame."),
        click.option(
            "--lens-table",
            type=click.Path(path_type=Path),
            help="Table with headings: focal length, focus distance or stop, by frame or timecode.",
        ),
        click.option(
            "--lens-units",
            default="",
            metavar="NAME=UNIT",
            help="Units that the table does not state, such as focal=mm,focus=ft.",
        ),
        click.option(
            "--lens-from",
            default="number",
            metavar="number|first|TIMECODE",
            help="Align the table by frame numbers, at the first frame, or by the timecode of the first frame.",
        ),
    ):
        command = option(command)
    return command


def source_and_changes(command: Any) -> Any:
    """What the file does not say, a recipe, and the options that change the camera."""
    for option in (pixel_aspect, changes, recipe, allow_files, columns, rate, unit, up_axis):
        command = option(command)
    return command
