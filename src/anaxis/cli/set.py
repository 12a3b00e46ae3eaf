"""``anaxis set``: the objects that go along with a camera."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.read import read_source, start_reader
from anaxis.cli.tables import console, print_json, table
from anaxis.core.camera.lens import Image


@click.command(name="set")
@options.file
@options.camera
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def set_objects(
    file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, reduce_px: float | None, as_json: bool, **stated: Any
) -> None:  # fmt: skip
    """List the objects of the set in FILE: faces, extent, motion, and whether the camera sees them."""
    reader = start_reader(file)
    from anaxis.library.set_listing import listing_of
    from anaxis.library.values import whole_or_part

    asked = read_source(reader, file, resolution, source_fit, stated)
    work = whole_or_part(asked.scene, camera, asked.steps(camera), None)
    found = listing_of(work, asked.picture)
    if as_json:
        print_json({"camera": work.path, "objects": [r._asdict() for r in found.rows], "notes": list(found.notes)})
        return
    rows = table("along", "object", "name", "faces", "extent, m", "motion", "view")
    for r in found.rows:
        extent = " x ".join(f"{v:.3g}" for v in r.extent_m)
        rows.add_row("yes" if r.along else "no", r.path, r.name, str(r.faces), extent, r.state, r.view)
    console().print(rows)
    for note in found.notes or () if found.rows else ("The file has no mesh.",):
        click.echo(note)
