"""glTF geometry as lines and points: triangles, strips, fans, lines; packed geometry is left out."""

from __future__ import annotations

from typing import Any

import numpy as np
from pygltflib import GLTF2

from anaxis.core.errors import BadInput
from anaxis.core.scene.mesh import Mesh, Spread
from anaxis.core.scene.nodes import Node
from anaxis.core.typing import Floats
from anaxis.formats.gltf.data import Accessors
from anaxis.formats.set_lines import Shape, line_shape, marks_of_points, mesh_shape, one_shape

_PACKED = ("KHR_draco_mesh_compression", "EXT_meshopt_compression")


class Meshes:
    """A document's meshes by index."""

    def __init__(self, document: GLTF2, name: str, accessors: Accessors) -> None:
        self._document, self._name, self._accessors = document, name, accessors

    def _primitives(self, mesh: int) -> list[Any]:
        try:
            return list(self._document.meshes[mesh].primitives or [])
        except (IndexError, TypeError) as error:
            raise BadInput(f"{self._name}: there is no mesh {mesh}; export it again.") from error

    def shape(self, mesh: int) -> Shape | None:
        return one_shape(self._shape_of(p) for p in self._primitives(mesh))

    def _shape_of(self, primitive: Any) -> Shape | None:
        mode = 4 if primitive.mode is None else primitive.mode
        if mode == 0 or any(k in _PACKED for k in (primitive.extensions or {})):
            return None
        points, index = self._points_and_order(primitive)
        if index is None:
            return None
        if mode == 4:
            index = index[: len(index) // 3 * 3]
            return self._as_they_came(mesh_shape(*_welded_triangles(points, index)), points, index, primitive)
        if mode in (5, 6) and len(index) >= 3:
            i = np.arange(len(index) - 2)
            first = index[i] if mode == 5 else np.repeat(index[:1], len(i))
            odd = (mode == 5) & (i % 2 == 1)  # every other triangle of a strip is gone round the other way
            second, third = np.where(odd, index[i + 2], index[i + 1]), np.where(odd, index[i + 1], index[i + 2])
            triangles = np.stack([first, second, third], axis=1).reshape(-1)
            return self._as_they_came(mesh_shape(*_welded_triangles(points, triangles)), points, triangles, primitive)
        if mode == 1:
            return Shape(points[index[: len(index) // 2 * 2].reshape(-1, 2)])
        if mode in (2, 3):
            order = np.append(index, index[:1]) if mode == 2 else index
            return line_shape(points[order], np.array([len(order)]))
        return None

    def _points_and_order(self, primitive: Any) -> tuple[Floats, Any]:
        """A primitive's points and the order they are used in; None where that does not fit."""
        points = self._attribute(primitive, "POSITION")
        if points is None:
            return np.zeros((0, 3)), None
        if primitive.indices is None:
            return points, np.arange(len(points))
        index = self._accessors.array(primitive.indices)[:, 0].astype(np.int64)
        fits = points.shape[1] == 3 and len(index) and index.min() >= 0 and index.max() < len(points)
        return points, index if fits else None

    def targets(self, mesh: int) -> Floats | None:
        """How far each morph target moves the points of a mesh, (k, p, 3); None where it has none, or several parts."""
        primitives = self._primitives(mesh)
        if len(primitives) != 1 or not primitives[0].targets:
            return None
        moved = []
        for target in primitives[0].targets:
            index = target.get("POSITION") if isinstance(target, dict) else getattr(target, "POSITION", None)
            if index is None:
                return None
            moved.append(self._accessors.array(index))
        same = all(m.shape == moved[0].shape and m.shape[1] == 3 for m in moved)
        return np.stack(moved) if same else None

    def _attribute(self, primitive: Any, name: str) -> Floats | None:
        """The values of one of a primitive's attributes, (k, width); None where it has no such attribute."""
        held = primitive.attributes  # the library leaves a plain dict where a file was text
        index = held.get(name) if isinstance(held, dict) else getattr(held, name, None)
        return None if index is None else self._accessors.array(index)

    def _as_they_came(self, shape: Shape | None, points: Floats, index: Any, primitive: Any) -> Shape | None:
        """A shape with the triangles as the file has them, points split along creases and all."""
        if shape is None:
            return None
        normals, texture = self._attribute(primitive, "NORMAL"), self._attribute(primitive, "TEXCOORD_0")
        if texture is not None and texture.shape[1] == 2:
            texture = texture * [1, -1] + [0, 1]  # counted from the top here
        mesh = Mesh(points[None], np.full(len(index) // 3, 3), index)
        spreads = (None if v is None else Spread(v, False) for v in (normals, texture))
        return shape._replace(mesh=mesh.with_surface(*spreads))

    def point_marks(self, mesh: int, path: str) -> list[Node]:
        out: list[Node] = []
        for primitive in self._primitives(mesh):
            if primitive.mode == 0:
                points, index = self._points_and_order(primitive)
                if index is not None and points.shape[1] == 3 and not out:
                    out = marks_of_points(path, points)
        return out


def _welded(points: Floats, index: Any) -> tuple[Floats, Any]:
    """Points at one place as one point: exporters split them along every crease and seam."""
    unique, which = np.unique(points, axis=0, return_inverse=True)
    return unique, which.reshape(-1)[index]


def _welded_triangles(points: Floats, index: Any) -> tuple[Floats, Any, Any]:
    points, index = _welded(points, index)
    return points, np.full(len(index) // 3, 3), index
