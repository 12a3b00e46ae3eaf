"""``anaxis film``: a movie of a shot, to show to people."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli import options
from anaxis.cli.read import guesses_of, read_scene, read_source, start_reader
from anaxis.cli.tables import OFF_TOLERANCE, print_json
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput

if TYPE_CHECKING:
    from collections.abc import Callable

    from anaxis.core.typing import Bytes


class _Aspect(click.ParamType):
    name = "ASPECT"

    def convert(self, value: Any, param: Any, ctx: Any) -> float:
        return options.aspect_of(str(value))


@click.command()
@options.file
@options.camera
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, dir_okay=False), help="shot.mp4, or shot.####.png."
)
@click.option(
    "--against",
    type=click.Path(path_type=Path),
    help="The camera that came back, drawn over it in another ink, with the deviation.",
)
@click.option("--against-camera", help="Path or name of that camera, where there are several.")
@click.option(
    "--profile",
    metavar="PROFILE",
    help="The package that it came back from, where its file does not say axes and unit.",
)
@click.option("--plate", type=click.Path(path_type=Path), help="The plate below: a folder, a file, or name.####.exr.")
@click.option(
    "--width",
    "width_px",
    type=click.IntRange(16, 16384),
    help="The film's width in pixels; else the picture's, of 1920 at most.",
)
@click.option(
    "--style",
    type=click.Choice(["shaded", "lines"]),
    default="shaded",
    show_default=True,
    help="Surfaces with hidden ones removed, or all lines.",
)
@click.option("--mask", type=_Aspect(), help="Darken all but this aspect, as 2.39.")
@click.option(
    "--guide",
    "guides",
    multiple=True,
    help="centre, thirds, action, graphics (EBU R 95) or title (SMPTE ST 2046-1); may be given again.",
)
@click.option(
    "--no-burn-in", is_flag=True, help="Without shot, frame, timecode, focal length and deviation at the lower edge."
)
@click.option("--force", is_flag=True, help="Replace files of the same name.")
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def film(
    file: Path, camera: str | None, out: Path, against: Path | None, against_camera: str | None, profile: str | None, plate: Path | None,
    width_px: int | None, style: Any, mask: float | None, guides: tuple[str, ...], no_burn_in: bool, force: bool, resolution: Image | None,
    source_fit: str | None, reduce_px: float | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Write a movie of what the camera of FILE sees: set, landmarks, plate, and a camera that came back."""
    from anaxis.library.film import Film, FilmOptions, write_film
    from anaxis.library.returned import beside
    from anaxis.library.sending import going_out
    from anaxis.packages import find_profile

    wanted = FilmOptions(width_px, style, mask, guides, not no_burn_in)
    asked = read_source(start_reader(file), file, resolution, source_fit, stated)
    leaving = going_out(asked.scene, camera, asked.steps(camera), asked.picture).leaving
    arrived, deviation = None, None
    if against is not None:
        package = find_profile(profile) if profile else None
        leaving, arrived, deviation = beside(leaving, read_scene(against), against_camera, package)
    made = Film(leaving, wanted, file.stem, arrived, deviation, _plate_of(plate))
    telling = sys.stderr.isatty()
    count = len(made.track)

    def tell(done: int) -> None:
        if telling:
            click.echo(f"\r{done} of {count} frames", err=True, nl=done == count)

    files = write_film(made, out, force, tell)
    document = {
        "files": [str(f) for f in files], "frames": count, "rate": str(made.track.rate), "resolution": [made.size.width_px, made.size.height_px],
        "max_px": None if deviation is None else float(deviation.max()), "notes": guesses_of(asked.picture),
    }  # fmt: skip
    if as_json:
        print_json(document)
    else:
        click.echo(
            f"{count} frames of {made.size.width_px} x {made.size.height_px} px at {made.track.rate} a second: {files[0]}"
        )
        if deviation is not None:
            click.echo(f"The camera that came back is at most {float(deviation.max()):.4f} px off.")
    if deviation is not None and float(deviation.max()) > 0.01:
        sys.exit(OFF_TOLERANCE)


def _plate_of(plate: Path | None) -> Callable[[int], Bytes | None]:
    """The plate's pictures by frame, blue, green, red (h, w, 3); read apart, one when it is asked for."""
    if plate is None:
        return lambda frame: None
    import cv2
    import numpy as np

    from anaxis.formats.plates.found import sequence_at
    from anaxis.sandbox.plates import plate_work

    found = sequence_at(plate)

    def at(frame: int) -> Bytes | None:
        if frame not in found.files:
            return None
        (done,) = plate_work({"do": "proxies", "view": "plain", "stops": 0.0}, {frame: Path(found.files[frame])})
        if "error" in done:
            raise BadInput(f"Frame {frame} of the plate: {done['error']}")
        return np.asarray(cv2.imdecode(np.frombuffer(done["data"], np.uint8), cv2.IMREAD_COLOR), dtype=np.uint8)

    return at
