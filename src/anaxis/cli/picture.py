"""``anaxis picture``: the cause of a mismatch from screenshots of the receiving package."""

from __future__ import annotations

from pathlib import Path

import click

from anaxis.cli import options
from anaxis.cli.read import read_meant
from anaxis.cli.tables import print_json
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.number_text import px_text


@click.command()
@click.argument("meant", type=click.Path(path_type=Path))
@click.argument("stills", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--points",
    multiple=True,
    type=click.Path(path_type=Path),
    help="Landmarks of a still: rows 'name x y' in pixels from its upper left, 'name -' for a hidden one. Once for each still.",
)
@click.option(
    "--frame", "frames", multiple=True, metavar="N|unknown", help="Shot frame of a still. Once for each still."
)
@click.option(
    "--area",
    "areas",
    multiple=True,
    metavar="X,Y,W,H|whole",
    help="Part of a still that the camera made (default: without bars and borders).",
)
@click.option("--profile", metavar="PROFILE", help="The package: a shipped key, or a JSON file.")
@click.option(
    "--learn",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the profile with what the stills say of the package; needs --profile.",
)
@click.option("--find", is_flag=True, help="Find the landmarks by the edges of the set, and print them as points.")
@options.camera
@options.resolution
@options.fit
@options.json
def picture(
    meant: Path, stills: tuple[Path, ...], points: tuple[Path, ...], frames: tuple[str, ...], areas: tuple[str, ...], profile: str | None, find: bool, learn: Path | None,
    camera: str | None, resolution: Image | None, source_fit: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Find the cause of a mismatch between the expected camera MEANT and STILLS from a package."""
    from anaxis.diagnosis.picture.border import asked_area
    from anaxis.diagnosis.stills import read_png
    from anaxis.library.pictures import (
        FOUND,
        AskedPicture,
        Expected,
        explain_pictures,
        find_points,
        profile_from_pictures,
        read_points,
    )
    from anaxis.packages import find_profile
    from anaxis.sandbox.pictures import safe_png

    for given, what in ((points, "--points"), (frames, "--frame"), (areas, "--area")):
        if len(given) not in (0, len(stills)):
            raise BadInput(f"{len(given)} {what} for {len(stills)} stills: give one for each, in their order.")
    package = find_profile(profile) if profile else None
    source = read_meant(meant, camera, resolution, source_fit)
    expected = Expected.of_work(source.work, source.picture)
    every = [read_png(safe_png(still)) for still in stills]
    aspect = source.picture.image.aspect
    parts = [asked_area(text, p, aspect) for text, p in zip(areas or [None] * len(stills), every, strict=True)]
    numbers = [_frame(f) for f in frames] or [None] * len(stills)
    if find:
        for still, part, pixels, frame in zip(stills, parts, every, numbers, strict=True):
            found = find_points(expected, source.work.lines_m, package, pixels, part, frame)
            if found is None:
                raise BadInput(f"{still.name}: the set is not found in this picture: place the landmarks by hand.")
            click.echo(
                f"{FOUND} {still.name}: {found.on_edges:.0%} of the set is on an edge, median {found.off_px:.1f} px. Check before use."
            )
            for name, (x, y) in found.placed.items():
                click.echo(f"{name} {x:.2f} {y:.2f}")
        return
    if not points:
        raise BadInput("Name a file of landmarks for each still with --points, or let Anaxis propose them with --find.")
    asked = [
        AskedPicture(still.name, part, frame, *read_points(file))
        for still, part, frame, file in zip(stills, parts, numbers, points, strict=True)
    ]
    diagnosis = explain_pictures(expected, package, asked)
    if learn is not None:
        if package is None:
            raise BadInput("--learn needs --profile: the package as you know it, whose axes and unit no picture tells.")
        made = profile_from_pictures(package, diagnosis, learn.stem.lower(), f"{package.label}, from pictures")
        learn.write_text(made.profile.model_dump_json(indent=1), encoding="utf-8")
        sure = ", ".join(f"{field} {share:.0%}" for field, share in made.confidence.items())
        click.echo(f"{learn}: confidence of {sure}; not told by pictures: {', '.join(made.untold)}.", err=True)
    if as_json:
        document = diagnosis.as_dict()
        document["areas"] = [[a.x, a.y, a.width, a.height] for a in parts]
        print_json(document)
        return
    for still, part in zip(stills, parts, strict=True):
        click.echo(f"{still.name}: {part.width} x {part.height} px at {part.x}, {part.y}, {part.why}")
    click.echo(diagnosis.sentence)
    for e in diagnosis.explanations[: 1 if diagnosis.decided else 3]:
        for same in e.same_picture:
            click.echo(f"  The picture cannot tell this from: the package {same}.")
    for name, found_camera in zip(diagnosis.pictures, diagnosis.cameras, strict=True):
        if found_camera is not None:
            click.echo(
                f"{name}: camera position {', '.join(f'{v:.3f}' for v in found_camera.position_m)} m (Y up), field of view "
                f"{found_camera.hfov_deg:.2f}°, {px_text(found_camera.rms_px)} remain. {found_camera.words}"
            )
    for misplaced in diagnosis.misplaced:
        click.echo(misplaced.sentence)
    for note in diagnosis.notes:
        click.echo(f"note: {note}")


def _frame(text: str) -> float | None:
    if text.strip().lower() in ("unknown", "?", "-"):
        return None
    try:
        return float(text)
    except ValueError:
        raise BadInput(f"'{text[:40]}' is not a frame: type a number, or 'unknown'.") from None
