"""The three maps of a framing camera's frame, written, read back and measured."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from anaxis.core.derive.sphere_maps import Sphere, map_error_px
from anaxis.core.errors import BadInput
from anaxis.formats.st_map.read import read_map_back
from anaxis.formats.st_map.write import write_st_map


class SphereMaps(NamedTuple):
    """The files of a frame, and by how many pixels of the plate points of the render are off that its maps carry back."""

    files: list[Path]
    carried_back_px: float


def write_sphere_maps(
    sphere: Sphere, at: int, folder: Path, stem: str, numbered: str, force: bool = False
) -> SphereMaps:
    """Three maps of the frame at a place: ``out`` of the plate, ``into`` it, and ``world``, the way into it at world orientation.

    Raises BadInput for a file that already exists.
    """
    files, worst = [], 0.0
    for kind, of, direction in (("out", sphere, "out"), ("into", sphere, "into"), ("world", sphere.at_world(), "into")):
        path = folder / f"{stem}.{kind}{numbered}.exr"
        if path.exists() and not force:
            raise BadInput(f"{path} already exists: choose another folder, or write over it with --force.")
        write_st_map(of.map(direction, at), path)
        if direction == "into":
            worst = max(worst, map_error_px(of, read_map_back(path), at))
        files.append(path)
    return SphereMaps(files, worst)
