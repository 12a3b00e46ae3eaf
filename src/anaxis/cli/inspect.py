"""``anaxis inspect``: what is in a camera file."""

from __future__ import annotations

import math
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
@options.recipe
@options.camera
@options.json
def inspect(file: Path, recipe: Path | None, camera: str | None, as_json: bool, **stated: Any) -> None:
    """Say what is in a camera FILE: cameras, range, rate, axes, unit, lens, findings."""
    reader = start_reader(file)
    from anaxis.cli.tables import print_json, print_report
    from anaxis.core.checks.examine import examine, refuse_unusable
    from anaxis.core.time.rates import plain_frame, rate_text

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
    refuse_unusable(reports)


def _first_lens(lens: Any) -> dict[str, float | None]:
    keys = ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm")
    first = {k: float(getattr(lens, k)[0]) for k in keys}
    return {k: v if math.isfinite(v) else None for k, v in first.items()}
