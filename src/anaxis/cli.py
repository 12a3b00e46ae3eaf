"""The same operations from a shell: ``anaxis inspect``, ``values``, ``transfer``, ``profiles``, ``serve``.

Exit codes: 0 done; 2 bad input, with one sentence on standard error; 3 the proof is above the
tolerance. The JSON forms are a public interface, described in docs/command-line.md.
"""

from __future__ import annotations

import math
import os
import sys
from pathlib import Path
from typing import Any

import click

from anaxis import cli_options as options
from anaxis import cli_packages, cli_transfer
from anaxis.cli_read import read_source, read_stated, recipes_of, start_reader
from anaxis.cli_tables import (
    console,
    numbers_at,
    print_json,
    print_report,
    print_values,
    table,
)
from anaxis.core.errors import BadInput
from anaxis.core.lens import (
    FITS,
    Image,
    equivalents,
    focal_of_view_mm,
    parse_size_mm,
    used_rectangle,
)
from anaxis.core.outgoing import numbers_of
from anaxis.core.recipe import Recipe, Work
from anaxis.core.scene import Scene
from anaxis.core.timing import format_frame, plain_frame, rate_text


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="anaxis")
def cli() -> None:
    """Move animated shot cameras between packages, and prove the match in pixels."""


@cli.command()
@options.file
@options.up_axis
@options.unit
@options.rate
@options.columns
@options.recipe
@options.camera
@options.json
def inspect(file: Path, recipe: Path | None, camera: str | None, as_json: bool, **stated: Any) -> None:
    """Say what is in a camera FILE: cameras, range, rate, axes, unit, lens, findings."""
    reader = start_reader(file)
    from anaxis.flow import examine, refuse_unusable

    scene = read_stated(reader, file, **stated)
    reports = examine(scene, recipes_of(recipe, scene, camera))
    document = {
        "file": {
            "name": scene.name,
            "format": scene.format,
            "up_axis": scene.convention.up_axis,
            "metres_per_unit": scene.convention.metres_per_unit,
            "rate": rate_text(scene.rate),
            "first_frame": plain_frame(scene.first_frame),
            "last_frame": plain_frame(scene.last_frame),
        },
        "cameras": [
            {
                "path": r.path,
                "name": r.name,
                "first_frame": plain_frame(r.first_frame),
                "last_frame": plain_frame(r.last_frame),
                "samples": r.samples,
                "animated": r.animated,
                "lens_animated": r.lens_animated,
                "lens": _first_lens(r.track.lens) if r.track else None,
                "findings": [f.as_dict() for f in r.findings],
            }
            for r in reports
        ],
    }
    if as_json:
        print_json(document)
    else:
        print_report(document, scene)
    refuse_unusable(scene, reports)


@cli.command()
@options.file
@options.camera
@options.to
@click.option("--frames", type=options.Frames(), help="First and last frame; else the camera's whole range.")
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def values(
    file: Path, camera: str | None, to: str, frames: tuple[float, float] | None, resolution: Image | None,
    source_fit: str | None, reduce_px: float | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Show a camera in a package's own numbers, frame by frame."""
    reader = start_reader(file)
    from anaxis.profiles import find_profile
    from anaxis.sending import prepare, reduce_keys

    profile = find_profile(to)
    asked = read_source(reader, file, resolution, source_fit, stated)
    picture = asked.picture
    # The whole range first: which of two equal sets of angles a frame shows depends on the frames
    # before it, and must not change with the part asked for.
    work = _whole_or_part(asked.scene, camera, frames, asked.steps(camera))
    track = work.done
    outgoing = prepare(track, work.landmarks, picture, profile)
    numbers = numbers_of(outgoing)
    reduced, keep = None, outgoing.written
    if reduce_px is not None:
        reduced = reduce_keys(outgoing, "columns", reduce_px)
        keep = reduced.keys.index
    if frames is not None:
        track.between(*frames)  # raises the sentence for a range without frames
        keep = keep[(numbers.frames[keep] >= frames[0]) & (numbers.frames[keep] <= frames[1])]
    document: dict[str, Any] = {
        "camera": work.path,
        "to": profile.key,
        "rate": rate_text(track.rate),
        "resolution": [picture.image.width_px, picture.image.height_px],
        "frames": [numbers_at(numbers, int(i)) for i in keep],
    }
    notes = list(outgoing.notes)
    if reduced is not None:
        document["keys"] = reduced.summary() | {"tolerance_px": reduce_px}
        notes.append(reduced.sentence + " Only these are listed; draw straight lines between them.")
    whole = track.frames
    if frames is not None and (frames[0] < whole[0] or frames[1] > whole[-1]):
        notes.append(
            f"The camera runs from {format_frame(whole[0])} to {format_frame(whole[-1])}; the other frames asked "
            "for are left out."
        )
    if picture.fit_guessed:
        notes.insert(0, f"The source's fit is a guess ({picture.fit}); set it with --source-fit.")
    if picture.image_guessed:
        notes.insert(0, f"The resolution {_size(picture.image)} is a guess; set it with --resolution.")
    if as_json:
        print_json({**document, "notes": notes})
    else:
        print_values(document, notes, profile.unit_name)


@cli.command()
@click.option("--film-back", required=True, help="Film back in mm, as 25.6x14.4.")
@click.option("--focal", type=float, help="Focal length in mm.")
@click.option("--fov-h", type=float, help="Horizontal field of view in degrees, instead of --focal.")
@click.option("--resolution", type=options.Resolution(), required=True, help="Image size, as 1920x1080.")
@click.option("--pixel-aspect", type=float, default=1.0, show_default=True)
@click.option("--squeeze", type=float, default=1.0, show_default=True, help="2 for a 2x anamorphic.")
@click.option("--fit", type=click.Choice(FITS), default="width", show_default=True)
@options.json
def lens(
    film_back: str, focal: float | None, fov_h: float | None, resolution: Image, pixel_aspect: float,
    squeeze: float, fit: str, as_json: bool,
) -> None:  # fmt: skip
    """Say a lens in every way: fields of view, zoom, 35 mm equivalent, crop factor."""
    width, height = parse_size_mm(film_back)
    image = Image(resolution.width_px, resolution.height_px, pixel_aspect)
    if not squeeze > 0:
        raise BadInput(f"The squeeze {squeeze:g} must be above zero.")
    used = used_rectangle(width, height, squeeze, image, fit)
    if (focal is None) == (fov_h is None):
        raise BadInput("Give the lens once: either --focal in mm or --fov-h in degrees.")
    focal_mm = float(focal_of_view_mm(used.width_mm, fov_h)) if fov_h is not None else float(focal or 0.0)
    if not (math.isfinite(focal_mm) and focal_mm > 0):
        raise BadInput(f"A focal length of {focal_mm:g} mm cannot be: it must be above zero.")
    found = {k: float(v) for k, v in equivalents(focal_mm, used, image)._asdict().items()}
    if as_json:
        print_json({**found, **({"focal_mm": focal_mm} if fov_h is not None else {})})
        return
    rows = table("lens", "value")
    for label, key, unit in (
        ("horizontal field of view", "hfov_deg", "deg"), ("vertical field of view", "vfov_deg", "deg"),
        ("diagonal field of view", "dfov_deg", "deg"), ("used width", "used_width_mm", "mm"), ("used height", "used_height_mm", "mm"),
        ("zoom", "zoom_px", "px"), ("35 mm equivalent", "equivalent_35_mm", "mm"), ("crop factor", "crop_factor", ""),
    ):  # fmt: skip
        rows.add_row(label, f"{found[key]:.4f} {unit}".strip())
    if fov_h is not None:
        rows.add_row("focal length", f"{focal_mm:.4f} mm")
    console().print(rows)


@cli.command()
@options.json
def profiles(as_json: bool) -> None:
    """List the shipped package profiles."""
    from anaxis.profiles import shipped_profiles

    if as_json:
        print_json([p.model_dump(mode="json") for p in shipped_profiles().values()])
        return
    rows = table("key", "nature", "looks along", "unit", "turns", "shows", "fit")
    for p in shipped_profiles().values():
        signs = "".join("+" if s > 0 else "-" for s in p.rotation.signs)
        rows.add_row(
            p.key, p.label, p.convention.look_axis, f"{p.metres_per_unit:g} m", f"{p.rotation.order} {signs}",
            p.lens.shown, p.lens.fit,
        )  # fmt: skip
    console().print(rows)


@cli.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8400, show_default=True)
def serve(host: str, port: int) -> None:
    """Serve the pages; DATABASE_URL names the PostgreSQL to use."""
    import uvicorn

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: run 'make demo', or name a PostgreSQL to use.")
    uvicorn.run("anaxis.web.app:create_app", factory=True, host=host, port=port, log_level="warning")


def _whole_or_part(
    scene: Scene, camera: str | None, frames: tuple[float, float] | None, recipe: Recipe
) -> Work:
    """The whole camera, or only the frames asked for where other frames cannot be used."""
    from anaxis.flow import take_camera

    try:
        return take_camera(scene, camera, recipe=recipe)
    except BadInput:
        if frames is None:
            raise
        return take_camera(scene, camera, frames, recipe)


def _size(image: Image) -> str:
    return f"{image.width_px}x{image.height_px}"


def _first_lens(lens: Any) -> dict[str, float | None]:
    keys = ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm")
    first = {k: float(getattr(lens, k)[0]) for k in keys}
    return {k: v if math.isfinite(v) else None for k, v in first.items()}


for _command in (
    cli_transfer.transfer, cli_packages.arrive, cli_packages.proof, cli_packages.diagnose, cli_packages.profile, cli_packages.calibrate,
):  # fmt: skip
    cli.add_command(_command)


def main() -> None:
    """Entry point: every failure a person can mend is one sentence and exit code 2."""
    try:
        cli.main(standalone_mode=False)
    except BadInput as error:
        click.echo(f"anaxis: {error.sentence}", err=True)
        sys.exit(2)
    except click.ClickException as error:
        click.echo(f"anaxis: {' '.join(error.format_message().split())} Try 'anaxis --help'.", err=True)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        sys.exit(130)


if __name__ == "__main__":
    main()
