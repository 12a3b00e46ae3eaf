"""``anaxis overscan`` and ``anaxis st-map``: how much more to render, and the maps that distort and undistort."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.read import guesses_of, json_file, read_source, start_reader
from anaxis.cli.tables import console, print_json, table
from anaxis.core.camera.distortion.distortion import Distortion, distortion_from_document
from anaxis.core.camera.distortion.overscan import overscan_of
from anaxis.core.camera.distortion.window import Window, window_of
from anaxis.core.camera.lens import Image, field_of_view_deg
from anaxis.core.errors import BadInput

_distortion = click.option(
    "--distortion", "distortion", required=True, type=click.Path(path_type=Path),
    help='A distortion document, {"model": "radial-tangential", "k1": 0.05, ...}.',
)  # fmt: skip


def _of_a_distorted_plate(command: Any) -> Any:
    """The camera, its distortion, its picture, and what the render's sides are multiples of."""
    multiple = click.option(
        "--multiple", type=click.IntRange(1, 1024), default=2, show_default=True,
        help="The render's sides are multiples of it.",
    )  # fmt: skip
    for option in (multiple, options.fit, options.resolution, _distortion, options.camera, options.file):
        command = option(command)
    return command


class _Plate:
    """A camera's plate, as a command's options name it."""

    def __init__(
        self, file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, stated: Any
    ) -> None:
        from anaxis.core.checks.examine import take_camera

        reader = start_reader(file)
        stated.pop("reduce_px", None)  # keys are a matter of what is written
        asked = read_source(reader, file, resolution, source_fit, stated)
        self.track = take_camera(asked.scene, camera, recipe=asked.steps(camera)).done
        self.picture = asked.picture
        self.window: Window = window_of(self.track.lens, self.picture.image, self.picture.fit)

    def say(self, document: dict[str, Any], lines: Sequence[Any], as_json: bool) -> None:
        """What a command found, as JSON or in lines and tables, with what of the picture is a guess."""
        notes = guesses_of(self.picture)
        if as_json:
            print_json({**document, "notes": notes})
            return
        for line in (*lines, *notes):
            console().print(line)


def _distortion_in(path: Path) -> Distortion:
    return distortion_from_document(json_file(path, "distortion"), path.name)


@click.command()
@_of_a_distorted_plate
@options.source_and_changes
@options.json
def overscan(
    file: Path, camera: str | None, distortion: Path, resolution: Image | None, source_fit: str | None, multiple: int,
    as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Say how much larger than the plate a render must be, in pixels and in field of view."""
    bent = _distortion_in(distortion)
    plate = _Plate(file, camera, resolution, source_fit, stated)
    found, lens = overscan_of(bent, plate.window, plate.picture.image, multiple), plate.track.lens
    grown = replace(
        lens, film_width_mm=lens.film_width_mm * found.wider, film_height_mm=lens.film_height_mm * found.higher
    )
    used = grown.used(found.image, plate.picture.fit)
    document = {
        "resolution": [found.image.width_px, found.image.height_px],
        "factor": list(found.factor),
        "film_width_mm": float(grown.film_width_mm[0]),
        "film_height_mm": float(grown.film_height_mm[0]),
        "offset_x_mm": float(lens.offset_x_mm[0]),
        "offset_y_mm": float(lens.offset_y_mm[0]),
        "hfov_deg": float(field_of_view_deg(used.width_mm, lens.focal_mm)[0]),
        "vfov_deg": float(field_of_view_deg(used.height_mm, lens.focal_mm)[0]),
        "empty_px_without": found.empty_px,
    }
    rows = table("overscan", "value")
    rows.add_row("render", f"{found.image.width_px} x {found.image.height_px} px")
    rows.add_row("needed", f"{found.factor[0]:.5f} x {found.factor[1]:.5f} of the plate")
    rows.add_row("film back", f"{document['film_width_mm']:.4f} x {document['film_height_mm']:.4f} mm")
    rows.add_row("horizontal field of view", f"{document['hfov_deg']:.4f} deg, at the first frame")
    rows.add_row("vertical field of view", f"{document['vfov_deg']:.4f} deg, at the first frame")
    rows.add_row("empty without it", f"{found.empty_px} px of the plate")
    both = "Focal length and offsets stay. Set both the resolution and the film back, or neither."
    plate.say(document, [rows, both], as_json)


@click.group("st-map")
def st_map() -> None:
    """Make and read ST maps."""


@st_map.command()
@_of_a_distorted_plate
@click.option("--frame", type=float, help="The frame whose lens and distortion it is; else the first.")
@click.option("--out", required=True, type=click.Path(file_okay=False, path_type=Path), help="The folder to write to.")
@click.option("--force", is_flag=True, help="Write over maps that are there.")
@options.source_and_changes
@options.json
def make(
    file: Path, camera: str | None, distortion: Path, resolution: Image | None, source_fit: str | None, multiple: int,
    frame: float | None, out: Path, force: bool, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Write a map that undistorts the plate into the overscanned picture, and one that distorts a render of it back."""
    import numpy as np

    from anaxis.core.camera.distortion.st_map import distort_map, undistort_map
    from anaxis.formats.st_map.read import read_st_map
    from anaxis.formats.st_map.write import write_st_map

    bent = _distortion_in(distortion)
    plate = _Plate(file, camera, resolution, source_fit, stated)
    image = plate.picture.image
    found = overscan_of(bent, plate.window, image, multiple)
    frames = plate.track.frames
    if frame is not None and not frames[0] <= frame <= frames[-1]:
        raise BadInput(f"Frame {frame:g} is none of the camera's, {frames[0]:g} to {frames[-1]:g}.")
    at = 0 if frame is None else int(np.argmin(np.abs(frames - frame)))
    window, alone = plate.window.take(slice(at, at + 1)), bent.take(np.array([at]))
    rendered = window.about(found.wider, found.higher)
    out.mkdir(parents=True, exist_ok=True)
    stem = f"{file.stem}.{plate.track.name}"
    written: dict[str, dict[str, Any]] = {}
    for kind, maker in (("undistort", undistort_map), ("distort", distort_map)):
        path = out / f"{stem}.{kind}.exr"
        if path.exists() and not force:
            raise BadInput(f"{path} is there already: choose another folder, or write over it with --force.")
        st = maker(alone, window, image, rendered, found.image)
        write_st_map(st, path)
        # Read back and measured: single precision is what is left of it.
        back = read_st_map(path).st
        fetched = image if kind == "undistort" else found.image
        off = float(np.linalg.norm((back - st) * [fetched.width_px, fetched.height_px], axis=-1).max())
        written[kind] = {"file": path.name, "resolution": [st.shape[1], st.shape[0]], "max_px": off}
    document = {
        "frame": float(frames[at]), "plate": [image.width_px, image.height_px],
        "render": [found.image.width_px, found.image.height_px], "factor": list(found.factor), "maps": written,
    }  # fmt: skip
    lines = [
        f"{one['file']}: {one['resolution'][0]} x {one['resolution'][1]} px, fetches in the "
        f"{'plate' if kind == 'undistort' else 'render'}; read back within {one['max_px']:.5f} px"
        for kind, one in written.items()
    ]
    plate.say(document, lines, as_json)


@st_map.command("read")
@click.argument("file", type=click.Path(path_type=Path))
@options.json
def read(file: Path, as_json: bool) -> None:
    """Say what an ST map holds, and what of it is a guess."""
    from anaxis.work.sandbox.apart import safe_st_map

    if not file.is_file():
        raise BadInput(f"There is no file {file}: check the name.")
    document = safe_st_map(file)
    if as_json:
        print_json({k: v for k, v in document.items() if k not in ("rows", "columns", "st")})
        return
    rows = table("ST map", "value")
    rows.add_row("size", f"{document['resolution'][0]} x {document['resolution'][1]} px")
    rows.add_row("origin", f"{document['origin']} (guess)")
    rows.add_row("direction", f"{document['direction'] or 'none: nothing is moved'} (guess)")
    rows.add_row("largest displacement", f"{document['largest_px']:.3f} px")
    console().print(rows)
    for said in document["guesses"].values():
        console().print(f"Guess: {said}.")


@st_map.command()
@options.file
@options.camera
@click.option("--map", "map_file", required=True, type=click.Path(path_type=Path), help="The ST map, an .exr.")
@click.option("--model", default="radial-tangential", show_default=True)
@click.option("--centre", is_flag=True, help="Look for the distortion's centre too.")
@click.option("--direction", type=click.Choice(["undistort", "distort"]), help="What the map does; else a guess.")
@click.option(
    "--render", type=options.Resolution(), help="The render's size, for a map that distorts; else the plate's."
)
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def fit(
    file: Path, camera: str | None, map_file: Path, model: str, centre: bool, direction: str | None, render: Image | None,
    resolution: Image | None, source_fit: str | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Fit a distortion model to an ST map of the camera's plate, and say what remains in pixels."""
    import numpy as np

    from anaxis.core.camera.distortion.fit import fit_model
    from anaxis.work.sandbox.apart import safe_st_map

    plate = _Plate(file, camera, resolution, source_fit, stated)
    if not map_file.is_file():
        raise BadInput(f"There is no file {map_file}: check the name.")
    found = safe_st_map(map_file)
    image, window = plate.picture.image, plate.window.take(slice(0, 1))
    wide, high = found["resolution"]
    size = Image(wide, high, image.pixel_aspect)
    undistorts = (direction or found["direction"] or "undistort") == "undistort"
    columns, rows = np.meshgrid(np.array(found["columns"]) + 0.5, np.array(found["rows"]) + 0.5)
    here = np.stack([columns, rows], axis=-1).reshape(-1, 2)
    st = np.array(found["st"]).reshape(-1, 2)
    if not undistorts and (size.width_px, size.height_px) != (image.width_px, image.height_px):
        raise BadInput(
            f"{map_file.name} is {size.width_px} x {size.height_px} px and the plate {image.width_px} x {image.height_px}: a map "
            "that distorts has the plate's size; set it with --resolution, or say with --direction that it undistorts."
        )
    # A render has the plate's pixels about its middle, and more of them.
    larger = size if undistorts else render or image
    rendered = window.about(larger.width_px / image.width_px, larger.height_px / image.height_px)
    of, within, target = (rendered, window, image) if undistorts else (window, rendered, larger)
    fetched = np.stack([st[:, 0] * target.width_px, (1 - st[:, 1]) * target.height_px], axis=-1)
    ends = of.tangents(here, size)[0], within.tangents(fetched, target)[0]
    pinhole, as_shot = ends if undistorts else ends[::-1]
    inside = (st >= 0).all(axis=1) & (st <= 1).all(axis=1)
    per_tangent = image.width_px / float((window.right - window.left)[0])
    fitted = fit_model(model, pinhole[inside], as_shot[inside], per_tangent, centre)
    worst = int(np.argmax(fitted.off_px))
    document = {
        "distortion": {"model": model, **fitted.coefficients}, "rms_px": fitted.rms_px, "max_px": float(fitted.off_px[worst]),
        "at_px": here[inside][worst].tolist(), "points": int(inside.sum()), "direction": "undistort" if undistorts else "distort",
    }  # fmt: skip
    lines = [f"{model}: {fitted.rms_px:.4f} px RMS, {fitted.off_px[worst]:.4f} px at worst"]
    lines += [f"  {name:12} {value: .9g}" for name, value in fitted.coefficients.items()]
    plate.say(document, lines, as_json)
