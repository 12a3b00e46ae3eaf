"""What the command line writes of a sphere: maps of every frame, the plate's part, a render put back into the plate."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.derive.sphere_maps import Sphere, map_error_px
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import plain_frame
from anaxis.formats.plates.found import Found, sequence_at
from anaxis.formats.st_map.read import read_map_back
from anaxis.formats.st_map.write import write_st_map
from anaxis.sandbox.plate_look import look_at
from anaxis.sandbox.plate_warp import through_maps


class SpherePlate(NamedTuple):
    """An equirectangular plate's pictures by number, and their size."""

    found: Found
    image: Image


def plate_of(plate: Path) -> SpherePlate:
    """Raises BadInput for what is no image sequence, or not twice as wide as high."""
    found = sequence_at(plate)
    if found.is_movie:
        raise BadInput(f"{found.name} is a movie: hand over the plate as an image sequence.")
    return SpherePlate(found, look_at(found, "equirectangular").plate.image)


def write_sphere(
    sphere: Sphere, out: Path, name: str, force: bool, maps: bool, cut_out: SpherePlate | None, render: Path | None
) -> dict[str, Any]:
    """Write what was asked for below ``out``; what it is, by how much it is off, and what could not be written."""
    out.mkdir(parents=True, exist_ok=True)
    document: dict[str, Any] = {}
    if maps:
        document["maps"] = write_maps(sphere, out, name, force)
    if cut_out is not None:
        document["cut_out"] = _through(sphere, "out", cut_out.found, out, f"{name}.plate", force)
    if render is not None:
        document["put_back"] = _through(sphere, "into", sequence_at(render), out, f"{name}.in_plate", force)
    return document


def write_maps(sphere: Sphere, out: Path, name: str, force: bool) -> dict[str, Any]:
    """Three maps a frame: ``out`` of the plate, ``into`` it, and ``world``, the way into it at world orientation. Each is
    read back, and points of the render carried by it are measured."""
    world = sphere._replace(axes=np.broadcast_to(np.eye(3), sphere.axes.shape))
    worst, count, first = 0.0, 0, ""
    for at, number in enumerate(sphere.track.frames.tolist()):
        for kind, of, direction in (("out", sphere, "out"), ("into", sphere, "into"), ("world", world, "into")):
            path = out / f"{name}.{kind}.{plain_frame(number):04}.exr"
            if path.exists() and not force:
                raise BadInput(f"{path} is there already: choose another folder, or write over it with --force.")
            write_st_map(of.map(direction, at), path)
            back, first, count = read_map_back(path), first or path.name, count + 1
            if direction == "into":
                worst = max(worst, map_error_px(of, back, at))
    return {"files": count, "first": first, "carried_back_px": worst}


def _through(sphere: Sphere, kind: str, found: Found, out: Path, stem: str, force: bool) -> dict[str, Any]:
    """Pictures put through the maps of their frames: out of the plate, or into it."""
    place = {round(f): i for i, f in enumerate(sphere.track.frames.tolist())}
    places = {n: place[n] for n in found.files if n in place}
    if not places:
        raise BadInput(f"{found.name} has no picture on the frames {min(place)} to {max(place)}: renumber its files.")
    names = {n: f"{stem}.{n:04}{Path(found.files[n]).suffix}" for n in places}
    there = next((n for n in names.values() if (out / n).exists()), None)
    if there and not force:
        raise BadInput(f"{out / there} is there already: choose another folder, or write over it with --force.")
    files = {n: Path(found.files[n]) for n in places}
    errors, count = [], 0
    with TemporaryDirectory(prefix="anaxis-maps-") as folder:
        for done in through_maps(
            kind, sphere, places, files, "cubic", names, Path(folder), out, None, kind == "out", kind == "into"
        ):
            if "error" in done:
                errors.append(f"frame {done['frame']}: {done['error']}")
            else:
                count += 1
    size = sphere.image if kind == "out" else sphere.plate
    return {
        "frames": count,
        "resolution": [size.width_px, size.height_px],
        "first": min(names.values()),
        "errors": errors,
    }
