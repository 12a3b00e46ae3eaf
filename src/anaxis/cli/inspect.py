"""``anaxis inspect``: what is in a camera file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.read import read_stated, recipes_of, start_reader


@click.command()
@options.file
@options.up_axis
@options.unit
@options.rate
@options.columns
@options.allow_files
@options.recipe
@options.camera
@options.json
def inspect(file: Path, recipe: Path | None, camera: str | None, as_json: bool, **stated: Any) -> None:
    """Show what is in a camera FILE: cameras, range, rate, axes, unit, lens, findings."""
    reader = start_reader(file)
    from anaxis.cli.tables import print_json, print_report
    from anaxis.library.inspected import inspected

    scene = read_stated(reader, file, **stated)
    found = inspected(scene, recipes_of(recipe, scene, camera))
    if as_json:
        print_json(found.document)
    else:
        print_report(found.document, scene)
    found.require_usable()
