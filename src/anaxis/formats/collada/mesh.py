"""COLLADA geometry as lines: triangles, polygons, lines, strips and fans."""

from __future__ import annotations

from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.scene.mesh import Spread
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
        rows = [numbers(p, document.name).astype(np.int64) for p in children(primitive, "p")]
        rows = [r[: len(r) // stride * stride].reshape(-1, stride) for r in rows if len(r) >= stride]
        runs: list[Ints] = [r[:, offset] for r in rows]
        if not runs or any(r.min() < 0 or r.max() >= len(points) for r in runs):
            return None
        if kind in ("lines", "linestrips"):
            order = np.concatenate(runs)
            counts = np.full(len(order) // 2, 2) if kind == "lines" else np.array([len(r) for r in runs])
            return line_shape(points[order[: counts.sum()]], counts)
        counts, order = _faces(document, primitive, kind, [len(r) for r in runs])
        corners = np.concatenate(rows)[order]
        normals, texture = (_spread(document, primitive, *s, corners) for s in (("NORMAL", 3), ("TEXCOORD", 2)))
        return mesh_shape(points, counts, corners[:, offset], normals, texture)
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


def _spread(document: Document, primitive: Any, semantic: str, width: int, corners: Ints) -> Spread | None:
    """The first values of a semantic at each corner, where ``corners`` (c, stride) are its indices; None where there are none."""
    found = next((i for i in children(primitive, "input") if i.get("semantic") == semantic), None)
    if found is None:
        return None
    source = document.by_url(found.get("source"))
    values = numbers(child(source, "float_array"), document.name)
    step = next((int(a.get("stride", width)) for t in children(source, "technique_common") for a in children(t, "accessor")), width)  # fmt: skip
    values = values[: len(values) // step * step].reshape(-1, step)[:, :width]
    index = corners[:, int(found.get("offset", 0))]
    if values.shape[1] != width or index.min() < 0 or index.max() >= len(values):
        return None
    return Spread(values[index], True)


def _faces(document: Document, primitive: Any, kind: str, runs: list[int]) -> tuple[Ints, Ints]:
    """The corners of each face, and where each corner's numbers stand among those of all ``runs``, by their lengths."""
    total = sum(runs)
    if kind == "polylist":
        counts = numbers(child(primitive, "vcount"), document.name).astype(np.int64)
        return counts, np.arange(total)[: counts.sum()]
    if kind == "polygons":
        return np.array(runs), np.arange(total)
    if kind == "triangles":
        order = np.arange(total // 3 * 3)
    else:
        parts = []
        for start, length in zip(np.cumsum([0, *runs[:-1]]).tolist(), runs, strict=True):
            i = np.arange(max(0, length - 2))
            if kind == "tristrips":  # every other triangle of a strip is gone round the other way
                turned = i % 2
                parts.append(np.stack([start + i, start + i + 1 + turned, start + i + 2 - turned], axis=1).reshape(-1))
            else:
                parts.append(np.stack([np.full(len(i), start), start + i + 1, start + i + 2], axis=1).reshape(-1))
        order = np.concatenate(parts)
    return np.full(len(order) // 3, 3), order
