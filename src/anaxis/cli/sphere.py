"""What the command line writes of a sphere: maps of every frame, the plate's part, a render put back into the plate."""

from __future__ import annotations

from pathlib import Path
from typing import Any, NamedTuple

from anaxis.core.camera.lens import Image
from anaxis.core.derive.sphere_maps import Sphere
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import plain_frame
from anaxis.formats.plates.found import Found, sequence_at
from anaxis.formats.st_map.sphere import write_sphere_maps
from anaxis.sandbox.plate_look import look_at
from anaxis.sandbox.plate_warp import NumberedPictures, warp_pictures


class SpherePlate(NamedTuple):
    """An equirectangular plate's pictures by number, and their size."""

    found: Found
    image: Image


def plate_of(plate: Path) -> SpherePlate:
    """Raises BadInput for what is not an image sequence, or not twice as wide as high."""
    found = sequence_at(plate)
    if found.is_movie:
        raise BadInput(f"{found.name} is a movie: use the plate as an image sequence.")
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
    """Three maps a frame, as :func:`write_sphere_maps` makes them."""
    frames = sphere.track.frames.tolist()
    done = [write_sphere_maps(sphere, at, out, name, f".{plain_frame(f):04}", force) for at, f in enumerate(frames)]
    files = [path for one in done for path in one.files]
    return {"files": len(files), "first": files[0].name, "carried_back_px": max(one.carried_back_px for one in done)}


def _through(sphere: Sphere, kind: str, found: Found, out: Path, stem: str, force: bool) -> dict[str, Any]:
    """Pictures put through the maps of their frames: out of the plate, or into it."""
    suffix = Path(next(iter(found.files.values()))).suffix
    pictures = NumberedPictures(found.name, {n: Path(f) for n, f in found.files.items()})
    done = warp_pictures(
        kind, sphere, sphere.track.frames.tolist(), pictures, out, lambda n: f"{stem}.{n:04}{suffix}", force=force
    )
    return {
        "frames": len(done.files),
        "resolution": [done.size.width_px, done.size.height_px],
        "first": done.files[0],
        "errors": done.errors,
    }
