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

if TYPE_CHECKING:
    from anaxis.sandbox.plate_frames import PlateFrames


class _Aspect(click.ParamType):
    name = "ASPECT"

    def convert(self, value: Any, param: Any, ctx: Any) -> float:
        from anaxis.core.camera.guides import aspect_of

        return aspect_of(str(value))


@click.command()
@options.file
@options.camera
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, dir_okay=False), help="shot.mp4, or shot.####.png or .exr."
)
@click.option("--against", type=click.Path(path_type=Path), help="A returned camera to overlay, with its deviation.")
@click.option("--against-camera", help="Path or name of that camera, if the file has several.")
@click.option(
    "--profile", metavar="PROFILE", help="The package of that file, if the file does not state axes and unit."
)
@click.option(
    "--plate", type=click.Path(path_type=Path), help="The plate behind the view: a folder, a file, or name.####.exr."
)
@click.option(
    "--width",
    "width_px",
    type=click.IntRange(16, 16384),
    help="Film width in pixels (default: that of the picture, up to 1920).",
)
@click.option(
    "--style",
    type=click.Choice(["shaded", "lines"]),
    default="shaded",
    show_default=True,
    help="Shaded surfaces, or all lines.",
)
@click.option("--mask", type=_Aspect(), help="Mask to this aspect, such as 2.39.")
@click.option(
    "--guide",
    "guides",
    multiple=True,
    help="centre, thirds, action, graphics (EBU R 95), action-2046, title (SMPTE ST 2046-1), fields, film-back or frame. May be repeated.",
)
@click.option(
    "--layout",
    type=click.Choice(["over", "beside"]),
    default="over",
    show_default=True,
    help="With --against: overlaid, or side by side.",
)
@click.option("--magnify", type=float, default=1.0, help="With --against: magnify the deviation by this factor.")
@click.option("--no-burn-in", is_flag=True, help="No burn-in of shot, frame, timecode, focal length and deviation.")
@click.option("--force", is_flag=True, help="Replace files of the same name.")
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def film(
    file: Path, camera: str | None, out: Path, against: Path | None, against_camera: str | None, profile: str | None, plate: Path | None,
    width_px: int | None, style: Any, mask: float | None, guides: tuple[str, ...], layout: Any, magnify: float, no_burn_in: bool, force: bool, resolution: Image | None,
    source_fit: str | None, reduce_px: float | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Write a movie of the view of the camera in FILE: set, landmarks, plate, and optionally a returned camera."""
    from anaxis.core.camera.guides import Guides
    from anaxis.library.film import Beside, Film, FilmOptions, Reel, write_film
    from anaxis.library.returned import beside
    from anaxis.library.sending import going_out
    from anaxis.packages import find_profile

    wanted = FilmOptions(width_px, style, Guides(guides, mask), not no_burn_in, layout, magnify)
    asked = read_source(start_reader(file), file, resolution, source_fit, stated)
    leaving = going_out(asked.scene, camera, asked.steps(camera), asked.picture).leaving
    arrived, deviation = None, None
    if against is not None:
        package = find_profile(profile) if profile else None
        leaving, seen, deviation = beside(leaving, read_scene(against), against_camera, package)
        arrived = Beside(seen, deviation)
    below = _plate_of(plate, width_px or leaving.picture.image.width_px)
    made = Film(leaving, wanted, file.stem, arrived, below)
    telling = sys.stderr.isatty()
    count = len(made.track)

    def tell(done: int) -> None:
        if telling:
            click.echo(f"\r{done} of {count} frames", err=True, nl=done == count)

    files = write_film(Reel([made]), out, force, tell)
    notes = [*guesses_of(asked.picture), *(below.notes if below is not None else [])]
    document = {
        "files": [str(f) for f in files], "frames": count, "rate": str(made.track.rate), "resolution": [made.size.width_px, made.size.height_px],
        "max_px": None if deviation is None else float(deviation.max()), "notes": notes,
    }  # fmt: skip
    if as_json:
        print_json(document)
    else:
        click.echo(
            f"{count} frames of {made.size.width_px} x {made.size.height_px} px at {made.track.rate} a second: {files[0]}"
        )
        for note in notes:
            click.echo(note, err=True)
        if deviation is not None:
            click.echo(f"The returned camera deviates by up to {float(deviation.max()):.4f} px.")
    if deviation is not None and float(deviation.max()) > 0.01:
        sys.exit(OFF_TOLERANCE)


def _plate_of(plate: Path | None, width_px: int) -> PlateFrames | None:
    """The plate's pictures by frame, read apart. Raises BadInput where there is no plate."""
    if plate is None:
        return None
    from anaxis.formats.plates.found import sequence_at
    from anaxis.sandbox.plate_frames import PlateFrames

    return PlateFrames({n: Path(f) for n, f in sequence_at(plate).files.items()}, width_px)
