"""``anaxis transfer``: cameras written for packages, each proved by opening the written file again."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.read import read_source, start_reader
from anaxis.cli.send import finish
from anaxis.cli.several import KeepsArgs, each_of
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput


@click.command(cls=KeepsArgs)
@click.argument("files", nargs=-1, required=True, metavar="FILE...", type=options.CameraFile())
@click.option("--jobs", default=2, show_default=True, type=click.IntRange(1, 64), help="Number of files at once.")
@click.option(
    "--camera",
    "names",
    multiple=True,
    help="Path or name of a camera; needed if the file has several. May be repeated.",
)
@click.option("--together", is_flag=True, help="Write one file for all cameras, in formats that allow it.")
@options.packages(required=True)
@options.formats(required=True)
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the files.")
@click.option(
    "--bundle", is_flag=True, help="A zip for each package: cameras, landmarks, set, axis check, sheet, manifest."
)
@options.resolution
@options.fit
@click.option(
    "--tolerance-px", type=float, help="Tolerance in pixels: exit 3 above it (0.01, or the value of --reduce-px)."
)
@options.delivery
@click.option(
    "--expect", "expect", type=options.Frames(), help="Expected frames of the shot; exit 3 if some are missing."
)
@options.allow
@click.option(
    "--plate",
    "plate",
    type=click.Path(path_type=Path),
    help="Images on the image plane: a folder, a file, or name.####.exr.",
)
@click.option("--name", "shot_name", help="Shot name as prefix of the file names (default: from the file).")
@click.option("--force", is_flag=True, help="Replace files of the same name.")
@options.source_and_changes
@options.json
@click.pass_context
def transfer(
    ctx: click.Context, files: tuple[Path, ...], jobs: int, names: tuple[str, ...], together: bool, to: tuple[str, ...], formats: list[str], out: Path,
    bundle: bool, resolution: Image | None, source_fit: str | None, reduce_px: float | None, tolerance_px: float | None, as_json: bool,
    expect: tuple[float, float] | None, allow: frozenset[str], plate: Path | None, shot_name: str | None, force: bool, **stated: Any,
) -> None:  # fmt: skip
    """Write cameras for one or more packages and prove each by opening the written file again.

    Several files run separately, with one table and the most severe exit code at the end.
    """
    if len(files) > 1:
        if shot_name is not None:
            raise BadInput("--name names the shot of one file: leave it out, and each is called as its file.")
        each_of(ctx, files, jobs, as_json)
    (file,) = files
    reader = start_reader(file)
    from anaxis.library.sending import SendOrder, going_out, origin_of, send
    from anaxis.packages import find_profile

    profiles = [find_profile(t) for t in to]
    if tolerance_px is None:
        tolerance_px = max(reduce_px or 0.0, 0.01)
    if not tolerance_px >= 0:
        raise BadInput(f"The tolerance {tolerance_px:g} px must be zero or more.")
    stated["reduce_px"] = reduce_px
    wanted = options.delivery_options(stated)
    asked = read_source(reader, file, resolution, source_fit, stated)
    cameras = [
        going_out(asked.scene, name, asked.steps(name), asked.picture, wanted.samples, expect)
        for name in names or (None,)
    ]
    if plate is not None:
        from anaxis.sandbox.plates import pictures_on_plane

        cameras = [c._replace(leaving=replace(c.leaving, pictures=pictures_on_plane(plate))) for c in cameras]
    order = SendOrder(
        profiles, formats, wanted, file.stem if together else "", file.stem if shot_name is None else shot_name, expect, force,
        partial(origin_of, file, allowed=allow) if bundle else None,
    )  # fmt: skip
    went = send(cameras, out, order)
    finish(went, cameras, allow, tolerance_px, reduce_px, as_json, {"camera": cameras[0].work.path})
