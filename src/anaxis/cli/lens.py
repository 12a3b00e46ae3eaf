"""``anaxis lens``: field of view, film back and focal length, one from the others."""

from __future__ import annotations

import math

import click

from anaxis.cli import options
from anaxis.cli.tables import console, print_json, table
from anaxis.core.camera.lens import FITS, Image, equivalents, focal_of_view_mm, parse_size_mm, used_rectangle
from anaxis.core.errors import BadInput


@click.command()
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
    """Convert a lens: fields of view, zoom, 35 mm equivalent, crop factor."""
    width, height = parse_size_mm(film_back)
    image = Image(resolution.width_px, resolution.height_px, pixel_aspect)
    if not squeeze > 0:
        raise BadInput(f"The squeeze {squeeze:g} must be above zero.")
    used = used_rectangle(width, height, squeeze, image, fit)
    if (focal is None) == (fov_h is None):
        raise BadInput("Use either --focal in mm or --fov-h in degrees.")
    focal_mm = float(focal_of_view_mm(used.width_mm, fov_h)) if fov_h is not None else float(focal or 0.0)
    if not (math.isfinite(focal_mm) and focal_mm > 0):
        raise BadInput(f"A focal length of {focal_mm:g} mm is not possible: it must be above zero.")
    found = {k: float(v) for k, v in equivalents(focal_mm, used, image)._asdict().items()}
    if as_json:
        print_json({**found, **({"focal_mm": focal_mm} if fov_h is not None else {})})
        return
    rows = table("lens", "value")
    for label, key, unit in (
        ("horizontal field of view", "hfov_deg", "deg"),
        ("vertical field of view", "vfov_deg", "deg"),
        ("diagonal field of view", "dfov_deg", "deg"),
        ("used width", "used_width_mm", "mm"),
        ("used height", "used_height_mm", "mm"),
        ("zoom", "zoom_px", "px"),
        ("35 mm equivalent", "equivalent_35_mm", "mm"),
        ("crop factor", "crop_factor", ""),
    ):
        rows.add_row(label, f"{found[key]:.4f} {unit}".strip())
    if fov_h is not None:
        rows.add_row("focal length", f"{focal_mm:.4f} mm")
    console().print(rows)
