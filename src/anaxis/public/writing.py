"""Several cameras written at once, and the packages that they are written for."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from anaxis.core.errors import BadInput
from anaxis.delivery.options import options_of
from anaxis.library.sending import Frames
from anaxis.packages import find_profile as package
from anaxis.packages import shipped_profiles as shipped_packages
from anaxis.packages.model import Profile
from anaxis.public.camera import Camera
from anaxis.public.written import Order, Written, write_leaving

__all__ = ["Profile", "Written", "package", "shipped_packages", "write"]


def write(
    cameras: Sequence[Camera],
    packages: Sequence[str | Profile],
    formats: Sequence[str],
    out: str | Path,
    *,
    together: bool = False,
    bundle: bool = False,
    name: str | None = None,
    expect: Frames | None = None,
    force: bool = False,
    **options: Any,
) -> list[Written]:
    """Write cameras for packages, in formats, into a folder, and prove each. Files are written aside and moved: none is half there.

    Parameters:
        cameras: cameras of one or several files.
        packages: keys of shipped packages, paths of profiles' JSON files, or profiles.
        formats: usd, alembic, gltf, collada, json, columns.
        out: the folder; it is made where it is not there.
        together: all cameras in one file, in formats that hold several.
        bundle: a zip for each package, too: cameras, landmarks, set, axis check, transfer sheet, manifest.
        name: the shot's name, in front of the files' names; else that of the first camera's file.
        expect: the first and the last frame that the shot owes, which the proof counts.
        force: replace files of the same name.
        options: of a delivery, as docs/library.md lists them: ``first``, ``reduce_px``, ``samples``, ``overscan``, ``plane_m``,
            ``set_formats`` and so on.

    Returns one entry for each package, camera and format. Raises BadInput for what cannot be written, and then nothing is.
    """
    if not cameras:
        raise BadInput("No camera to write: name at least one.")
    asked = options_of(options)
    leaving = [c._leaving(asked.samples, expect) for c in cameras]
    return write_leaving(leaving, packages, formats, Path(out), Order(together, bundle, name, expect, force, asked))
