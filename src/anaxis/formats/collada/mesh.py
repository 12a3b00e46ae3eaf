"""COLLADA geometry as lines: triangles, polygons, lines, strips and fans."""

from __future__ import annotations

from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, Ints
from anaxis.formats.collada.xml_tree import Document, child, children, local, numbers
from anaxis.formats.set_lines import Shape, line_shape, mesh_shape, one_shape


def geometry_shape(document: Document, geometry: Any | None) -> Shape | None:
    """What is drawn of a <geometry>, and its surface; None for one that is not there or does not fit."""
    mesh = child(geometry, "mesh") if geometry is not None else None
    if mesh is None:
        return None
    return one_shape(_piece(document, mesh, p) for p in mesh)


def _piece(document: Document, mesh: Any, primitive: Any) -> Shape | None:
    kind = local(primitive)
    if kind not in ("triangles", "polylist", "polygons", "lines", "linestrips", "tristrips", "trifans"):
        return None
    try:
        points, offset, stride = _positions(document, primitive)
        runs: list[Ints] = [
            numbers(p, document.name).astype(np.int64)[offset::stride] for p in children(primitive, "p")
        ]
        runs = [r for r in runs if len(r)]
        if not runs or any(r.min() < 0 or r.max() >= len(points) for r in runs):
            return None
        if kind in ("lines", "linestrips"):
            order = np.concatenate(runs)
            counts = np.full(len(order) // 2, 2) if kind == "lines" else np.array([len(r) for r in runs])
            return line_shape(points[order[: counts.sum()]], counts)
        counts, corners = _faces(document, primitive, kind, runs)
        return mesh_shape(points, counts, corners)
    except (BadInput, ValueError, IndexError, TypeError):
        return None  # a drawing aid: a mesh that does not fit is left out, the camera is not


def _positions(document: Document, primitive: Any) -> tuple[Floats, int, int]:
    """The points a primitive uses, where their index stands in a corner's numbers, and how many those are."""
    inputs = children(primitive, "input")
    stride = max(int(i.get("offset", 0)) for i in inputs) + 1
    vertex = next(i for i in inputs if i.get("semantic") == "VERTEX")
    vertices = document.by_url(vertex.get("source"))
    position = next(i for i in children(vertices, "input") if i.get("semantic") == "POSITION")
    source = document.by_url(position.get("source"))
    values = numbers(child(source, "float_array"), document.name)
    return values[: len(values) // 3 * 3].reshape(-1, 3), int(vertex.get("offset", 0)), stride


def _faces(document: Document, primitive: Any, kind: str, runs: list[Ints]) -> tuple[Ints, Ints]:
    if kind == "polylist":
        counts = numbers(child(primitive, "vcount"), document.name).astype(np.int64)
        return counts, np.concatenate(runs)[: counts.sum()]
    if kind == "polygons":
        return np.array([len(r) for r in runs]), np.concatenate(runs)
    if kind == "triangles":
        order = np.concatenate(runs)
        order = order[: len(order) // 3 * 3]
    else:
        parts = []
        for run in runs:
            i = np.arange(max(0, len(run) - 2))
            first = run[i] if kind == "tristrips" else np.repeat(run[:1], len(i))
            parts.append(np.stack([first, run[i + 1], run[i + 2]], axis=1).reshape(-1))
        order = np.concatenate(parts)
    return np.full(len(order) // 3, 3), order
