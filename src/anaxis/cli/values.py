"""``anaxis values``: a camera in a package's own numbers."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.read import guesses_of, read_source, start_reader
from anaxis.cli.tables import print_json, print_values
from anaxis.core.camera.lens import Image


@click.command()
@options.file
@options.camera
@options.to
@click.option("--frames", type=options.Frames(), help="First and last frame (default: the whole range).")
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def values(
    file: Path, camera: str | None, to: str, frames: tuple[float, float] | None, resolution: Image | None,
    source_fit: str | None, reduce_px: float | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Show a camera in the numbers of a package, for each frame."""
    reader = start_reader(file)
    from anaxis.library.values import package_values, whole_or_part
    from anaxis.packages import find_profile

    profile = find_profile(to)
    asked = read_source(reader, file, resolution, source_fit, stated)
    picture = asked.picture
    work = whole_or_part(asked.scene, camera, asked.steps(camera), frames)
    first, last = frames or (None, None)
    found = package_values(work.done, work.landmarks, picture, profile, first, last, reduce_px)
    document: dict[str, Any] = {
        "camera": work.path, "to": profile.key, "rate": found.rate, "resolution": found.resolution, "frames": found.frames,
        **({} if found.keys is None else {"keys": found.keys}),
    }  # fmt: skip
    notes = guesses_of(picture) + found.notes
    if as_json:
        print_json({**document, "notes": notes})
    else:
        print_values(document, notes, profile.unit_name)
