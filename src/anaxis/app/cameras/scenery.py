"""Set geometry and landmarks that come to a camera from another file."""

from __future__ import annotations

from typing import Any

from anaxis.app.cameras.edit import add_operations
from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.nodes import Scene
from anaxis.library.archive import scene_to_bytes
from anaxis.store.keep import keep_file, stage_file
from anaxis.store.models import Version


def add_set(
    context: Context, version: Version, name: str, data: bytes, scene: Scene, read_as: dict[str, str]
) -> Version:
    """The file is kept with the camera; ``read_as`` may hold ``metres_per_unit`` and ``up_axis``. Raises BadInput."""
    if not any(n.kind == "landmark" or n.segments is not None for n in scene.nodes):
        raise BadInput(f"{name} has no mesh, curve, point or landmark: export the set and try again.")
    source = stage_file(context, name, data, scene_to_bytes(scene))
    keep_file(context, source)
    params: dict[str, Any] = {"sha256": source.sha256, "name": name, **read_as}
    return add_operations(context, version, [Operation("set_add", params)], f"set from {name}")
