"""Reading OBJ: set geometry and marked points; it holds no camera, unit or axes.

Each ``o`` or ``g`` is a piece of the set with its origin in the middle of its bounds; points
(``p``) are landmarks.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.scene.guesses import with_guesses
from anaxis.core.scene.landmarks import unique_name
from anaxis.core.scene.mesh import Spread
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, Ints
from anaxis.formats.set_lines import MAX_MARKS, MAX_POINTS, Shape, line_shape, mesh_shape, one_shape, within_budget


class _Numbers:
    """Points, texture coordinates and normals of a file, as written."""

    def __init__(self) -> None:
        self.points: list[list[float]] = []
        self.texture: list[list[float]] = []
        self.normals: list[list[float]] = []

    def arrays(self, name: str) -> tuple[Floats, Floats, Floats]:
        """(p, 3), (t, 2) and (k, 3). Raises BadInput where one is not a number."""
        each = ((self.points, 3), (self.texture, 2), (self.normals, 3))
        arrays = [np.array(v, dtype=np.float64).reshape(-1, width) for v, width in each]
        if not all(np.isfinite(a).all() for a in arrays):
            raise BadInput(f"{name} has a point that is not a number: export it again.")
        return arrays[0], arrays[1], arrays[2]


class _Piece:
    """Indices of the faces, lines and points of one group, as written: of a face, those of its points, texture coordinates and
    normals; -1 for one without."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.faces: list[list[tuple[int, int, int]]] = []
        self.lines: list[list[int]] = []
        self.points: list[int] = []


def read_obj(path: Path, within: Path | None = None) -> Scene:
    """Read a .obj as a set; raises BadInput, naming the line, where it cannot be read."""
    read, pieces = _parsed(path)
    points, texture, normals = read.arrays(path.name)
    nodes: list[Node] = []
    taken: set[str] = set()
    for piece in pieces:
        name = unique_name("/" + piece.name.replace("/", "_"), taken)
        shape = _shape(points, texture, normals, piece)
        if shape is not None:
            middle = (shape.lines.min(axis=(0, 1)) + shape.lines.max(axis=(0, 1))) / 2
            surface = None if shape.triangles is None else shape.triangles - middle
            mesh = None if shape.mesh is None else shape.mesh.compact()
            nodes.append(
                Node(
                    name, None, "set", np.zeros(1), _at(middle), segments=shape.lines - middle, triangles=surface,
                    mesh=None if mesh is None else replace(mesh, points=mesh.points - middle),
                )
            )  # fmt: skip
        for i, index in enumerate(piece.points[:MAX_MARKS]):
            mark = name if len(piece.points) == 1 and shape is None else f"{name}_point_{i + 1}"
            nodes.append(Node(mark, None, "landmark", np.zeros(1), _at(points[index])))
    scene = Scene(
        name=path.name,
        format="obj",
        convention=Convention(metres_per_unit=1.0),
        rate=Fraction(24),
        first_frame=0.0,
        last_frame=0.0,
        nodes=tuple(within_budget(nodes)),
        guesses={"up_axis": "the format does not state it; Y is more common"},
    )
    return with_guesses(scene, up_axis=False, metres_per_unit=True)


def _at(place: Floats) -> Floats:
    local = np.eye(4)[None].copy()
    local[0, :3, 3] = place
    return local


def _parsed(path: Path) -> tuple[_Numbers, list[_Piece]]:
    read = _Numbers()
    points, pieces = read.points, [_Piece(path.stem)]
    with path.open(encoding="utf-8", errors="replace") as lines:
        for number, line in enumerate(lines, 1):
            word, _, rest = line.partition(" ")
            try:
                if word == "v":
                    points.append([float(v) for v in rest.split()[:3]])
                    if len(points[-1]) != 3 or len(points) > MAX_POINTS:
                        raise ValueError
                elif word == "vt":
                    read.texture.append([float(v) for v in (*rest.split()[:2], "0")][:2])
                elif word == "vn":
                    read.normals.append([float(v) for v in rest.split()[:3]])
                    if len(read.normals[-1]) != 3:
                        raise ValueError
                elif word == "f":
                    pieces[-1].faces.append([_corner(item, read) for item in rest.split()])
                elif word in ("l", "p"):
                    index = [_index(item.split("/")[0], len(points)) for item in rest.split()]
                    piece = pieces[-1]
                    if word == "p":
                        piece.points += index
                    else:
                        piece.lines.append(index)
                elif word in ("o", "g") and rest.strip():
                    pieces.append(_Piece(rest.strip()[:120]))
            except (ValueError, IndexError) as error:
                raise BadInput(
                    f"{path.name}, line {number}: '{line.strip()[:60]}' cannot be read as OBJ; export it again."
                ) from error
    return read, pieces


def _corner(item: str, read: _Numbers) -> tuple[int, int, int]:
    """The indices of a face's corner: point, texture coordinate, normal; -1 for one that the file does not have."""
    point, *more = item.split("/")
    texture, normal = (*more, "", "")[:2]
    return (
        _index(point, len(read.points)), _index_or_none(texture, len(read.texture)), _index_or_none(normal, len(read.normals)),
    )  # fmt: skip


def _index_or_none(item: str, count: int) -> int:
    try:
        return _index(item, count)
    except (ValueError, IndexError):
        return -1


def _index(item: str, count: int) -> int:
    """An index from 0; negative ones count back from the newest."""
    index = int(item)
    index = index - 1 if index > 0 else count + index
    if not 0 <= index < count:
        raise IndexError
    return index


def _shape(points: Floats, texture: Floats, normals: Floats, piece: _Piece) -> Shape | None:
    parts = []
    faces = [f for f in piece.faces if len(f) >= 3]
    if faces:
        index = np.array([corner for face in faces for corner in face], dtype=np.int64)
        parts.append(
            mesh_shape(
                points, _counts(faces), index[:, 0], _spread(normals, index[:, 2]), _spread(texture, index[:, 1])
            )
        )
    lines = [x for x in piece.lines if len(x) >= 2]
    if lines:
        parts.append(line_shape(points[np.concatenate([np.array(x) for x in lines])], _counts(lines)))
    return one_shape(parts)


def _spread(values: Floats, index: Ints) -> Spread | None:
    """Values at each corner; None where a corner has none."""
    return Spread(values[index], True) if len(values) and (index >= 0).all() else None


def _counts(runs: Sequence[Sequence[Any]]) -> Ints:
    return np.array([len(r) for r in runs], dtype=np.int64)
