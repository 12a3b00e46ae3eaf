"""What each format's own library makes of a delivered file: the stand-in's readers, a file each.

None of this is shared with :mod:`anaxis.formats`: USD is evaluated by Gf.Camera's frustum, Alembic by its
xform and camera samples, glTF and COLLADA by the standards' own words, columns and track JSON by scipy's
rotations and the profile's axes spelled out as vectors.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from anaxis.core.errors import BadInput
from anaxis.standin.alembic import alembic_views
from anaxis.standin.collada import collada_views
from anaxis.standin.gltf import gltf_views
from anaxis.standin.tables import column_views
from anaxis.standin.track_json import json_views
from anaxis.standin.usd import usd_views
from anaxis.standin.views import FileViews, ReadRequest

_READERS: dict[str, Callable[[Path, ReadRequest], FileViews]] = {
    ".usd": usd_views, ".usda": usd_views, ".usdc": usd_views, ".json": json_views, ".csv": column_views,
    ".gltf": gltf_views, ".glb": gltf_views, ".dae": collada_views, ".abc": alembic_views,
}  # fmt: skip


def read_views(path: Path, asked: ReadRequest) -> FileViews:
    """One camera of a file. Raises BadInput for a format without a reader, and where that camera is not there."""
    if path.suffix.lower() not in _READERS:
        raise BadInput(f"The stand-in for '{asked.profile.label}' has no reader for {path.name}.")
    return _READERS[path.suffix.lower()](path, asked)
