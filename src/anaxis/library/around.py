"""What lies about a camera after its recipe, for cameras that are made from it: surfaces, objects, places in the bake."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.motion.set_objects import SetAlong
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.recipe.operations import geometry, kind_of, placing
from anaxis.core.scene.hull import pieces_m
from anaxis.core.scene.nodes import corrected
from anaxis.core.typing import Floats, Ints
from anaxis.library.scene_report import FileCamera


class Around(NamedTuple):
    """``triangles_m`` (t, 3, 3) of the set; ``objects`` the points (n or 1, k, 3) of pieces by name; ``kept`` (n,) which of
    the samples baked from the source each frame is, or is next to."""

    triangles_m: Floats
    objects: dict[str, Floats]
    kept: Ints


def around(camera: FileCamera, objects: tuple[str, ...] = ()) -> Around:
    """What lies about a camera after its recipe. Raises BadInput where the recipe cannot be done."""
    work = camera.replayed()
    return Around(work.triangles_m, _objects(work, camera.recipe, objects), work.kept)


def set_of(camera: FileCamera) -> SetAlong:
    """The objects of the set with their faces that go along with a camera after its recipe. Raises BadInput."""
    return camera.replayed().set_along


def _objects(work: Work, recipe: Recipe, names: tuple[str, ...]) -> dict[str, Floats]:
    """The pieces by name, of the camera's own file and of sets that the recipe adds, placed as the camera is."""
    if not names:
        return {}
    own = pieces_m(work.scene, names, work.frames)
    moved = {k: v if len(v) == 1 else v[work.kept] for k, v in own.items()}
    for operation in (o for o in recipe if o.on):
        kind = kind_of(operation.code)
        p = kind.read(operation.params)
        if isinstance(p, geometry.SetAdd):
            other = corrected(work.sets(p.sha256), p.up_axis, p.metres_per_unit)
            moved = pieces_m(other, names, np.array([other.first_frame])) | moved
        elif isinstance(p, placing.Shift):
            moved = {k: v + np.array([p.x_m, p.y_m, p.z_m]) for k, v in moved.items()}
        elif kind.placement is not None:
            moved = {k: kind.placement(p).points(v) for k, v in moved.items()}
    return moved
