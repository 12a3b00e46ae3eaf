"""``anaxis overscan`` and ``anaxis st-map``: how much more to render, and the maps that distort and undistort."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli import options
from anaxis.cli.read import guesses_of, read_source, start_reader
from anaxis.cli.tables import console, print_json, said_on_the_way, table
from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.distortion.models import model_of, usual_of
from anaxis.core.camera.distortion.suggested import Suggested
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.library.plate_of_camera import PlateOfCamera


def of_a_plate(command: Any) -> Any:
    """The camera, its picture, and how the render's sides are rounded and lie about the plate."""
    tight = click.option("--tight", is_flag=True, help="Each side grows on its own; the offsets change.")
    multiple = click.option(
        "--multiple", type=click.IntRange(1, 1024), default=2, show_default=True,
        help="Round the render size up to multiples of this.",
    )  # fmt: skip
    for option in (tight, multiple, options.fit, options.resolution, options.camera, options.file):
        command = option(command)
    return command


def plate_of_file(
    file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, stated: Any
) -> PlateOfCamera:
    """A camera's plate, as a command's options name it."""
    from anaxis.library.plate_of_camera import plate_of

    reader = start_reader(file)
    stated.pop("reduce_px", None)  # keys are a matter of what is written
    asked = read_source(reader, file, resolution, source_fit, stated)
    return plate_of(asked.scene, camera, asked.steps(camera), asked.picture)


def say(plate: PlateOfCamera, document: dict[str, Any], lines: Sequence[Any], as_json: bool) -> None:
    """Print what a command found, as JSON or in lines and tables, with what of the picture is a guess."""
    notes = guesses_of(plate.picture)
    if as_json:
        print_json({**document, "notes": notes})
        return
    for line in (*lines, *notes):
        console().print(line)


@click.command()
@of_a_plate
@options.source_and_changes
@options.json
def overscan(
    file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, multiple: int, tight: bool,
    as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Show how much larger than the plate a render must be, in pixels and field of view."""
    plate = plate_of_file(file, camera, resolution, source_fit, stated)
    report = plate.overscan_report(multiple, tight)
    found = report.needed
    document = {
        "resolution": [found.image.width_px, found.image.height_px],
        "factor": list(found.factor),
        "film_width_mm": report.film_width_mm,
        "film_height_mm": report.film_height_mm,
        "offset_x_mm": report.offset_x_mm,
        "offset_y_mm": report.offset_y_mm,
        "hfov_deg": report.hfov_deg,
        "vfov_deg": report.vfov_deg,
        "empty_px_without": report.empty_px,
        "short_px": report.short_px,
    }
    rows = table("overscan", "value")
    rows.add_row("render", f"{found.image.width_px} x {found.image.height_px} px")
    rows.add_row("needed", f"{found.factor[0]:.5f} x {found.factor[1]:.5f} of the plate")
    rows.add_row("film back", f"{document['film_width_mm']:.4f} x {document['film_height_mm']:.4f} mm")
    rows.add_row("horizontal field of view", f"{document['hfov_deg']:.4f} deg, at the first frame")
    rows.add_row("vertical field of view", f"{document['vfov_deg']:.4f} deg, at the first frame")
    rows.add_row("offset", f"{document['offset_x_mm']:.4f} right, {document['offset_y_mm']:.4f} up mm")
    rows.add_row("plate within it", f"from x {-found.overscan.x_px:g}, y {-found.overscan.y_px:g} px")
    rows.add_row("empty without overscan", f"{report.empty_px} px of the plate")
    rows.add_row("too small for the filter", f"{report.short_px} px of the plate")
    kept = "Focal length and offsets stay." if found.overscan.centred else "The focal length stays, the offsets move."
    both = f"{kept} Set both the resolution and the film back, or neither."
    say(plate, document, [rows, both], as_json)


@click.group("st-map")
def st_map() -> None:
    """Make and read ST maps."""


@st_map.command()
@of_a_plate
@click.option("--frame", type=float, help="The frame of lens and distortion (default: the first).")
@click.option("--sequence", is_flag=True, help="Write a pair of maps for every frame.")
@click.option(
    "--size", type=click.Choice(["overscan", "plate"]), default="overscan", show_default=True,
    help="Size of the undistorted picture: with overscan, or that of the plate.",
)  # fmt: skip
@click.option("--out", required=True, type=click.Path(file_okay=False, path_type=Path), help="The folder to write to.")
@click.option("--force", is_flag=True, help="Replace existing maps.")
@options.source_and_changes
@options.json
def make(
    file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, multiple: int, tight: bool,
    frame: float | None, sequence: bool, size: str, out: Path, force: bool, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Write a map that undistorts the plate with overscan, and one that distorts a render back."""
    from anaxis.library.plate_of_camera import MapsOrder, write_maps

    plate = plate_of_file(file, camera, resolution, source_fit, stated)
    image = plate.picture.image
    order = MapsOrder(frame, sequence, size == "plate", multiple, tight, force)
    done = write_maps(
        plate, out, f"{file.stem}.{plate.track.name}", order, partial(said_on_the_way, what="pairs of maps")
    )
    document = {
        "frame": done.frame, "plate": [image.width_px, image.height_px],
        "render": [done.render.width_px, done.render.height_px], "maps": done.worst, "pairs": done.pairs,
    }  # fmt: skip
    lines = [
        f"{one['file']}: {one['resolution'][0]} x {one['resolution'][1]} px, fetches in the "
        f"{'plate' if kind == 'undistort' else 'render'}; read back within {one['max_px']:.5f} px"
        f"{f', the worst of {done.pairs}' if done.pairs > 1 else ''}"
        for kind, one in done.worst.items()
    ]
    say(plate, document, lines, as_json)


@st_map.command("read")
@click.argument("file", type=click.Path(path_type=Path))
@options.json
def read(file: Path, as_json: bool) -> None:
    """Show what is in an ST map, and which values are guesses."""
    from anaxis.sandbox.pictures import safe_st_map

    if not file.is_file():
        raise BadInput(f"There is no file {file}: check the name.")
    document = safe_st_map(file)
    if as_json:
        print_json({k: v for k, v in document.items() if k not in ("rows", "columns", "st")})
        return
    rows = table("ST map", "value")
    rows.add_row("size", f"{document['resolution'][0]} x {document['resolution'][1]} px")
    rows.add_row("origin", f"{document['origin']} (guess)")
    rows.add_row("direction", f"{document['direction'] or 'none: nothing moves'} (guess)")
    rows.add_row("largest displacement", f"{document['largest_px']:.3f} px")
    console().print(rows)
    for said in document["guesses"].values():
        console().print(f"Guess: {said}.")


@st_map.command()
@options.file
@options.camera
@click.option(
    "--map", "maps", required=True, multiple=True, type=click.Path(path_type=Path),
    help="The ST map (.exr); repeat for a pair; or a sequence name.####.exr with one map for each frame.",
)  # fmt: skip
@click.option(
    "--model", default="radial-tangential", show_default=True, help="A model, or 'map' to use the map itself."
)
@click.option("--centre", is_flag=True, help="Fit the centre of the distortion too.")
@click.option(
    "--direction", type=click.Choice(["undistort", "distort"]), help="Direction of the map (default: detect)."
)
@click.option("--origin", type=click.Choice(["lower left", "upper left"]), help="Origin of the map (default: detect).")
@click.option(
    "--render", type=options.Resolution(), help="Render size of a distorting map (default: that of the plate)."
)
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def fit(
    file: Path, camera: str | None, maps: tuple[Path, ...], model: str, centre: bool, direction: str | None,
    origin: str | None, render: Image | None, resolution: Image | None, source_fit: str | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Fit a distortion model to ST maps of the plate, and show the residual in pixels."""
    import numpy as np

    from anaxis.formats.plates.found import sequence_at
    from anaxis.formats.st_map.fitted import Given
    from anaxis.library.plate_of_camera import worst_of
    from anaxis.sandbox.pictures import safe_st_map

    plate = plate_of_file(file, camera, resolution, source_fit, stated)

    def fitted(paths: Sequence[Path], at: int) -> tuple[Suggested, list[Given]]:
        for path in paths:
            if not path.is_file():
                raise BadInput(f"There is no file {path}: check the name.")
        given = [Given.of(p.name, safe_st_map(p), direction or "", origin or "") for p in paths]
        return plate.fitted(given, model, at, centre, render), given

    frames: list[int] = []
    pairs: list[tuple[Sequence[Path], int]] = [(maps, 0)]
    if len(maps) == 1 and not maps[0].is_file():
        if model == mapped.CODE:
            raise BadInput("'map' uses the map of one frame: fit another model to a sequence.")
        found = sequence_at(maps[0])
        frames = list(found.files)
        own = np.round(plate.track.frames).astype(int)
        places = [int(np.flatnonzero(own == f)[0]) if f in own else -1 for f in frames]
        if -1 in places:
            raise BadInput(
                f"{found.name} has frame {frames[places.index(-1)]} and the camera {own[0]} to {own[-1]}: number the maps like the frames of the camera."
                ""
            )
        pairs = [((Path(found.files[f]),), at) for f, at in zip(frames, places, strict=True)]
    done = [fitted(paths, at) for paths, at in said_on_the_way(pairs, "maps fitted")]
    rms_px, max_px, at_px = worst_of([one for one, _ in done])
    points = sum(len(one.off_px) for one, _ in done)
    document = done[0][0].document
    if frames:
        names = dict.fromkeys(k for one, _ in done for k in one.document if k != "model")
        usual = usual_of(model_of(model))
        document = {
            "model": model,
            "frames": frames,
            **{k: [one.document.get(k, usual[k]) for one, _ in done] for k in names},
        }
    answer = {
        "distortion": document, "rms_px": rms_px, "max_px": max_px, "at_px": at_px.tolist(), "points": points,
        "direction": done[0][1][0].direction,
    }  # fmt: skip
    lines = [
        f"{model}: {rms_px:.4f} px RMS, up to {max_px:.4f} px at most{f', over {len(frames)} maps' if frames else ''}"
    ]
    lines += [f"  {name:12} {value: .9g}" for name, value in done[0][0].document.items() if isinstance(value, float)]
    guesses = [s for s in done[0][0].said if s.startswith("A guess")]
    answer["guesses"], lines = guesses, [*lines, *guesses]
    say(plate, answer, lines, as_json)
