"""Reading OBJ: set geometry and marked points; it holds no camera, unit or axes.

Each ``o`` or ``g`` is a piece of the set with its origin in the middle of its bounds; points
(``p``) are landmarks.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.scene.guesses import with_guesses
from anaxis.core.scene.landmarks import unique_name
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, Ints
from anaxis.formats.set_lines import MAX_MARKS, MAX_POINTS, Shape, line_shape, mesh_shape, one_shape, within_budget


class _Piece:
    """Point indices of the faces, lines and points of one group, as written."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.faces: list[list[int]] = []
        self.lines: list[list[int]] = []
        self.points: list[int] = []


def read_obj(path: Path, within: Path | None = None) -> Scene:
    """Read a .obj as a set; raises BadInput, naming the line, where it cannot be read."""
    points, pieces = _parsed(path)
    nodes: list[Node] = []
    taken: set[str] = set()
    for piece in pieces:
        name = unique_name("/" + piece.name.replace("/", "_"), taken)
        shape = _shape(points, piece)
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
        guesses={"up_axis": "the format has no place for it; Y is the commoner"},
    )
    return with_guesses(scene, up_axis=False, metres_per_unit=True)


def _at(place: Floats) -> Floats:
    local = np.eye(4)[None].copy()
    local[0, :3, 3] = place
    return local


def _parsed(path: Path) -> tuple[Floats, list[_Piece]]:
    points: list[list[float]] = []
    pieces = [_Piece(path.stem)]
    with path.open(encoding="utf-8", errors="replace") as lines:
        for number, line in enumerate(lines, 1):
            word, _, rest = line.partition(" ")
            try:
                if word == "v":
                    points.append([float(v) for v in rest.split()[:3]])
                    if len(points[-1]) != 3 or len(points) > MAX_POINTS:
                        raise ValueError
                elif word in ("f", "l", "p"):
                    index = [_index(item, len(points)) for item in rest.split()]
                    piece = pieces[-1]
                    if word == "p":
                        piece.points += index
                    else:
                        (piece.faces if word == "f" else piece.lines).append(index)
                elif word in ("o", "g") and rest.strip():
                    pieces.append(_Piece(rest.strip()[:120]))
            except (ValueError, IndexError) as error:
                raise BadInput(
                    f"{path.name}, line {number}: '{line.strip()[:60]}' cannot be read as OBJ; export it again."
                ) from error
    array = np.array(points, dtype=np.float64).reshape(-1, 3)
    if not np.isfinite(array).all():
        raise BadInput(f"{path.name} has a point that is not a number: export it again.")
    return array, pieces


def _index(item: str, count: int) -> int:
    """A point's index from 0; negative ones count back from the newest point."""
    index = int(item.split("/")[0])
    index = index - 1 if index > 0 else count + index
    if not 0 <= index < count:
        raise IndexError
    return index


def _shape(points: Floats, piece: _Piece) -> Shape | None:
    parts = []
    faces = [f for f in piece.faces if len(f) >= 3]
    if faces:
        parts.append(mesh_shape(points, _counts(faces), np.concatenate([np.array(f) for f in faces])))
    lines = [x for x in piece.lines if len(x) >= 2]
    if lines:
        parts.append(line_shape(points[np.concatenate([np.array(x) for x in lines])], _counts(lines)))
    return one_shape(parts)


def _counts(runs: list[list[int]]) -> Ints:
    return np.array([len(r) for r in runs], dtype=np.int64)
