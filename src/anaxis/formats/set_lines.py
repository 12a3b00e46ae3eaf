"""Set geometry: the edges of meshes and curves as lines, enough to recognise the place, and meshes as triangles.

Edges inside a flat or smoothly curved surface say nothing in a line drawing and are dropped; of
what is left, the longest stay when a file holds more than a browser draws in a few milliseconds.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from anaxis.core.findings import Finding
from anaxis.core.scene.mesh import Mesh, Spread, one_mesh
from anaxis.core.scene.nodes import Node
from anaxis.core.typing import Floats, Ints

MAX_PIECES = 400
MAX_SEGMENTS = 20_000
MAX_POINTS = 2_000_000
MAX_TRIANGLES = 300_000
MAX_MARKS = 300
# Corners of faces that go along with the camera, over all of a file.
MAX_CORNERS = 4_000_000
# Points of one object that deforms, over all of its frames.
MAX_MOVING_POINTS = 6_000_000
_CREASE_COS = np.cos(np.radians(20.0))


def usable_points(points: Floats) -> bool:
    return 1 <= len(points) <= MAX_POINTS and bool(np.isfinite(points).all())


class Shape(NamedTuple):
    """What is drawn of a piece, ``lines`` (s, 2, 3), its surface, ``triangles`` (t, 3, 3), and its faces; None for curves."""

    lines: Floats
    triangles: Floats | None = None
    mesh: Mesh | None = None


def mesh_shape(
    points: Floats, counts: Ints, corners: Ints, normals: Spread | None = None, texture: Spread | None = None
) -> Shape | None:
    """A mesh as it is drawn, and its faces as fans of triangles; None for indices that fit no mesh (:func:`mesh_lines`)."""
    lines = mesh_lines(points, counts, corners)
    if lines is None:
        return None
    mesh = Mesh(points[None], counts, corners).with_surface(normals, texture)
    return Shape(lines, points[mesh.triangles()], mesh)


def over_time(
    shape: Shape | None, frames: Floats, points: Iterable[Floats], name: str
) -> tuple[Shape | None, Finding | None]:
    """A shape whose mesh deforms: ``points`` (p, 3) on each of its ``frames`` (k,). Where they are too many, or not the same points
    on every frame, its first shape stays, and a finding says so."""
    if shape is None or shape.mesh is None or len(frames) < 2:
        return shape, None
    count = shape.mesh.points.shape[1]
    if len(frames) * count <= MAX_MOVING_POINTS:
        held = list(points)
        if all(p.shape == (count, 3) and np.isfinite(p).all() for p in held):
            mesh = replace(shape.mesh, points=np.stack(held), frames=frames)
            return shape._replace(mesh=mesh if np.ptp(mesh.points, axis=0).max() > 0 else shape.mesh), None
        why = "its faces change between frames"
    else:
        why = f"its {count} points on {len(frames)} frames are too many to deliver"
    return shape, shape_stays(name, why)


def shape_stays(name: str, why: str) -> Finding:
    """That an object deforms, and goes along with one shape."""
    return Finding(
        "set_shape_stays", "warning", f"The object '{name}' deforms; Anaxis uses its shape on the first frame: {why}.",
        "Remove the object from the export, or export it with fewer points or frames as OpenUSD or Alembic.",
        "In the receiving package it keeps the shape of the first frame.", node=name,
    )  # fmt: skip


def line_shape(points: Floats, counts: Ints) -> Shape | None:
    """Curves, see :func:`polyline_lines`."""
    lines = polyline_lines(points, counts)
    return None if lines is None else Shape(lines)


def one_shape(parts: Iterable[Shape | None]) -> Shape | None:
    """Several pieces as one; None where there is nothing to draw."""
    found = [p for p in parts if p is not None and len(p.lines)]
    if not found:
        return None
    meshes = [p.triangles for p in found if p.triangles is not None]
    faces = [p.mesh for p in found if p.mesh is not None]
    return Shape(
        np.concatenate([p.lines for p in found]),
        np.concatenate(meshes) if meshes else None,
        one_mesh(faces) if faces else None,
    )


def mesh_lines(points: Floats, counts: Ints, corners: Ints) -> Floats | None:
    """The edges of a mesh that show, (s, 2, 3), as :func:`mesh_edges` finds them."""
    edges = mesh_edges(points, counts, corners)
    return None if edges is None else points[edges]


def mesh_edges(points: Floats, counts: Ints, corners: Ints) -> Ints | None:
    """The edges of a mesh that show, as point indices (s, 2); None for indices that fit no mesh.

    Parameters:
        points: (p, 3). counts: (f,) corners of each face. corners: (sum of counts,) point indices.
    """
    if not usable_points(points) or not len(counts) or not len(corners):
        return None
    if (counts < 3).any() or counts.sum() != len(corners) or corners.min() < 0 or corners.max() >= len(points):
        return None
    # The next corner of each corner, wrapping round at the end of its face.
    first = np.cumsum(counts) - counts
    face = np.repeat(np.arange(len(counts)), counts)
    following = corners[first[face] + (np.arange(len(corners)) - first[face] + 1) % counts[face]]
    ends = np.sort(np.stack([corners, following], axis=1), axis=1)
    edges, which, uses = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
    return np.asarray(edges[_shows(points, corners, following, face, which.reshape(-1), uses)])


def _shows(points: Floats, corners: Ints, following: Ints, face: Ints, which: Ints, uses: Ints) -> Ints:
    """Indices of the edges on a border or a crease; of all edges where there are none of those."""
    # Newell: the sum of the cross products round a face is its normal, whatever its shape.
    normals = np.zeros((face[-1] + 1, 3))
    np.add.at(normals, face, np.cross(points[corners], points[following]))
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.divide(normals, length, out=np.zeros_like(normals), where=length > 0)
    total = np.zeros((len(uses), 3))
    np.add.at(total, which, normals[face])
    # Two faces: |n1 + n2|^2 = 2 + 2 cos.
    cosine = np.sum(total**2, axis=1) / 2 - 1
    sharp = (uses != 2) | (cosine < _CREASE_COS)
    return np.flatnonzero(sharp) if sharp.any() else np.arange(len(uses))


def polyline_lines(points: Floats, counts: Ints) -> Floats | None:
    """Curves of ``counts`` (c,) points each, one after another in ``points`` (p, 3), as (s, 2, 3)."""
    if not usable_points(points) or not len(counts) or counts.sum() != len(points) or len(points) < 2:
        return None
    joined = np.ones(len(points) - 1, dtype=np.bool_)
    joined[np.cumsum(counts)[:-1] - 1] = False
    index = np.flatnonzero(joined)
    return points[np.stack([index, index + 1], axis=1)]


def marks_of_points(parent: str, points: Floats) -> list[Node]:
    """The points of a point cloud as landmarks below ``parent``; evenly thinned out over the limit."""
    if not usable_points(points):
        return []
    index = np.unique(np.linspace(0, len(points) - 1, min(len(points), MAX_MARKS)).astype(np.int64))
    marks = []
    for i in index.tolist():
        local = np.eye(4)[None].copy()
        local[0, :3, 3] = points[i]
        marks.append(Node(f"{parent}/point_{i + 1}", parent, "landmark", np.zeros(1), local))
    return marks


def within_budget(nodes: list[Node]) -> list[Node]:
    """The nodes with as many set lines as are drawn at once: the longest, over all of the file."""
    pieces = [i for i, n in enumerate(nodes) if n.segments is not None]
    out = list(nodes)
    meshes = [i for i in pieces if nodes[i].triangles is not None]
    held = np.cumsum([len(nodes[i].triangles) for i in meshes])  # type: ignore[arg-type]
    for i, count in zip(meshes, held, strict=True):
        if count > MAX_TRIANGLES:  # whole pieces: a surface with holes would say something else
            out[i] = replace(out[i], triangles=np.zeros((0, 3, 3)))
    corners = np.cumsum([len(n.mesh.corners) if n.mesh is not None else 0 for n in nodes])
    for i in np.flatnonzero(corners > MAX_CORNERS).tolist():
        out[i] = replace(out[i], mesh=None)
    for i in pieces[MAX_PIECES:]:
        out[i] = replace(out[i], segments=np.zeros((0, 2, 3)))
    pieces = pieces[:MAX_PIECES]
    counts = [len(_segments(out[i])) for i in pieces]
    if sum(counts) <= MAX_SEGMENTS:
        return out
    # Length in the node's own space: a cheap stand-in for how much of the drawing a line is.
    lengths = np.concatenate([np.linalg.norm(np.diff(_segments(out[i]), axis=1)[:, 0], axis=1) for i in pieces])
    keep = np.zeros(len(lengths), dtype=np.bool_)
    keep[np.argsort(-lengths, kind="stable")[:MAX_SEGMENTS]] = True
    start = 0
    for i, count in zip(pieces, counts, strict=True):
        out[i] = replace(out[i], segments=_segments(out[i])[keep[start : start + count]])
        start += count
    return out


def _segments(node: Node) -> Floats:
    return node.segments if node.segments is not None else np.zeros((0, 2, 3))
