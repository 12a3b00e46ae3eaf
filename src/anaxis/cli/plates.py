"""``anaxis plate``, ``anaxis undistort`` and ``anaxis distort``: plates looked at, and put through maps both ways."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.distortion import of_a_plate, plate_of_file, say
from anaxis.cli.tables import WARNED, console, print_findings, print_json, table
from anaxis.core.camera.lens import Image
from anaxis.core.checks.plates import PLATE_KINDS, PlateContext, check_plate, ranges
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import plain_frame
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.overscan import render_of
from anaxis.formats.plates import PICTURE_SUFFIXES
from anaxis.formats.plates.found import sequence_at
from anaxis.formats.plates.warp import FILTERS, USUAL_FILTER
from anaxis.sandbox.plate_look import look_at
from anaxis.sandbox.plate_warp import NumberedPictures, warp_pictures

_offset = click.option("--offset", type=int, default=0, help="Offset from the image number to the camera frame.")
_out = click.option(
    "--out", required=True, type=click.Path(file_okay=False, path_type=Path), help="The folder to write to."
)
_filter = click.option(
    "--filter", "filter_name", type=click.Choice(list(FILTERS)), default=USUAL_FILTER, show_default=True,
    help="Filter for resampling.",
)  # fmt: skip
_format = click.option(
    "--picture-format", "suffix", type=click.Choice([s.lstrip(".") for s in PICTURE_SUFFIXES]),
    help="Image format (default: that of the source).",
)  # fmt: skip
_force = click.option("--force", is_flag=True, help="Replace existing images.")


@click.command()
@click.argument("plate", type=click.Path(path_type=Path))
@click.option("--file", "file", type=click.Path(path_type=Path), help="A camera file to check the plate against.")
@options.camera
@click.option("--kind", type=click.Choice(PLATE_KINDS), default="as shot", show_default=True)
@_offset
@click.option("--whole", is_flag=True, help="Read every image completely to find damaged files.")
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def plate(
    plate: Path, file: Path | None, camera: str | None, kind: Any, offset: int, whole: bool, resolution: Image | None,
    source_fit: str | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Show what is in a PLATE (a folder, one of its files, or name.####.exr), and whether it matches a camera."""
    looked = look_at(sequence_at(plate), kind, offset, whole)
    seen, facts = looked.plate, looked.facts
    findings = []
    if file is not None:
        of = plate_of_file(file, camera, resolution, source_fit, stated)
        findings = check_plate(PlateContext(seen, of.track, of.picture.image))
    document = {
        "name": seen.name, "kind": seen.kind, "resolution": [seen.image.width_px, seen.image.height_px],
        "pixel_aspect": seen.image.pixel_aspect, "data_window": list(seen.data_px), "first_frame": min(seen.numbers),
        "last_frame": max(seen.numbers), "frames": len(seen.numbers), "offset": offset, "missing": list(seen.missing),
        "doubled": list(seen.doubled), "broken": {str(k): v for k, v in seen.broken.items()}, "pixels": facts.words,
        "linear": facts.linear, "left_out": list(facts.left_out), "rate": None if seen.rate is None else str(seen.rate),
        "findings": [f.as_dict() for f in findings],
    }  # fmt: skip
    if as_json:
        print_json(document)
    else:
        rows = table("plate", "value")
        rows.add_row("name", seen.name)
        rows.add_row("frames", f"{ranges(seen.numbers)} ({len(seen.numbers)})")
        rows.add_row(
            "picture", f"{seen.image.width_px} x {seen.image.height_px} px, pixel aspect {seen.image.pixel_aspect:g}"
        )
        rows.add_row("pixels", f"{facts.words}{', linear' if facts.linear else ''}")
        for label, numbers in (("missing", seen.missing), ("doubled", seen.doubled), ("broken", list(seen.broken))):
            if numbers:
                rows.add_row(label, ranges(numbers))
        console().print(rows)
        print_findings([(seen.name, f) for f in findings])
    if any(f.severity != "note" for f in findings):
        raise SystemExit(WARNED)


def _put_through(command: Any) -> Any:
    """What undistorting and distorting both ask for."""
    overscan = click.option(
        "--overscan",
        default="auto",
        show_default=True,
        metavar="auto|none|PERCENT|WxH",
        help="The undistorted picture.",
    )
    for option in (
        options.json,
        options.source_and_changes,
        _force,
        _format,
        _filter,
        _out,
        _offset,
        overscan,
        of_a_plate,
    ):
        command = option(command)
    return command


@click.command()
@_put_through
@click.option("--plate", "pictures", required=True, type=click.Path(path_type=Path), help="The plate as shot.")
def undistort(**given: Any) -> None:
    """Write the undistorted plate of a camera, as an image sequence."""
    _through_maps("undistort", **given)


@click.command()
@_put_through
@click.option("--render", "pictures", required=True, type=click.Path(path_type=Path), help="The render, undistorted.")
def distort(**given: Any) -> None:
    """Distort a render of a camera to the plate format, so that it matches the plate as shot."""
    _through_maps("distort", **given)


def _through_maps(
    kind: str, file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, multiple: int, tight: bool,
    pictures: Path, overscan: str, offset: int, out: Path, filter_name: str, suffix: str | None, force: bool, as_json: bool,
    **stated: Any,
) -> None:  # fmt: skip
    of = plate_of_file(file, camera, resolution, source_fit, stated)
    asked = DeliveryOptions(overscan="" if overscan == "none" else overscan, multiple=multiple, tight=tight)
    maps = of.maps(render_of(of.track, of.picture, asked))
    found = sequence_at(pictures)
    if found.is_movie:
        raise BadInput(
            f"{found.name} is a movie, whose frames cannot be written back one by one: use an image sequence."
        )
    stem = Path(found.name).stem if "#" not in found.name else found.name.split("#")[0].rstrip("._-")
    ending = f".{suffix}" if suffix else Path(next(iter(found.files.values()))).suffix
    out.mkdir(parents=True, exist_ok=True)
    frames = of.track.frames.tolist()
    files = {f: Path(path) for f, path in found.files.items()}
    done = warp_pictures(
        kind, maps, frames, NumberedPictures(found.name, files, offset), out,
        lambda n: f"{stem}.{kind}ed.{plain_frame(n):04}{ending}", filter_name=filter_name, force=force,
    )  # fmt: skip
    document = {
        "frames": len(done.files), "resolution": [done.size.width_px, done.size.height_px], "filter": FILTERS[filter_name],
        "largest_step_off": done.steps_off, "folder": str(out), "first": done.files[0], "errors": done.errors,
        "left_out": done.left_out, "missing": done.missing,
    }  # fmt: skip
    lines = [
        f"{len(done.files)} pictures of {done.size.width_px} x {done.size.height_px} px in {out}, filter {FILTERS[filter_name]}; "
        f"read back within {done.steps_off:.3g} steps of their depth",
        *([f"{done.left_out} images have no camera frame and were skipped"] if done.left_out else []),
        *done.notes(found.name),
    ]
    say(of, document, lines, as_json)
    if done.errors or done.missing:
        raise SystemExit(WARNED)
