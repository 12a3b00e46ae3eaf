"""Writing a set as glTF: triangles, with each object's own points in their order, still or moved by a translation, a rotation
and a scale."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.motion.keys import continuous_quaternions
from anaxis.core.scene.mesh import Spread, fans
from anaxis.core.time.rates import plain_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import FileAxes, is_still
from anaxis.formats.gltf.container import Buffer, container
from anaxis.formats.set_piece import SetPiece, SetTimes


class _Moves:
    """A matrix (n, 4, 4) as the format holds it: ``translation`` (n, 3), ``rotation`` (n, 4) and ``scale`` (n, 3)."""

    def __init__(self, matrix: Floats) -> None:
        arms = matrix[:, :3, :3]
        size = np.linalg.norm(arms, axis=1)
        size[np.linalg.det(arms) < 0, 0] *= -1  # a mirrored object is turned over along its first axis
        self.translation, self.scale = matrix[:, :3, 3], size
        self.rotation = continuous_quaternions(arms / np.where(size == 0, 1.0, size)[:, None, :])


def write_gltf_set(path: Path, pieces: Sequence[SetPiece], times: SetTimes, axes: FileAxes) -> None:
    """All objects below a node "set", those of a group below it; none of them deforms or is sheared."""
    buffer = Buffer()
    nodes: list[dict[str, Any]] = [{"name": "set", "children": []}]
    meshes: list[dict[str, Any]] = []
    samplers: list[dict[str, Any]] = []
    channels: list[dict[str, Any]] = []
    groups, clock = {"": 0}, -1
    for piece in pieces:
        if piece.group not in groups:
            groups[piece.group] = len(nodes)
            nodes[0]["children"].append(len(nodes))
            nodes.append({"name": piece.group, "children": []})
        index, moves = len(nodes), _Moves(piece.matrix)
        nodes[groups[piece.group]]["children"].append(index)
        entry: dict[str, Any] = {"name": piece.name, "mesh": len(meshes)}
        for name in ("translation", "rotation", "scale"):
            values: Floats = getattr(moves, name)
            entry[name] = values[0].tolist()
            if not is_still(values):
                clock = buffer.add(times.seconds[:, None]) if clock < 0 else clock
                channels.append({"sampler": len(samplers), "target": {"node": index, "path": name}})
                samplers.append({"input": clock, "output": buffer.add(values), "interpolation": "LINEAR"})
        if piece.shown.guide or piece.shown.hidden:
            entry["extras"] = {"anaxis": {"guide": piece.shown.guide, "hidden": piece.shown.hidden}}
        nodes.append(entry)
        meshes.append({"name": piece.name, "primitives": [_triangles(buffer, piece)]})
    own = {"rate": rate_text(times.rate), "frame_at_zero_s": plain_frame(times.zero_frame)}
    document = {
        "asset": {"version": "2.0", "generator": "Anaxis", "extras": {"anaxis": own}}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": nodes,
        "meshes": meshes, "buffers": [{"byteLength": len(buffer.data)}], "bufferViews": buffer.views, "accessors": buffer.accessors,
        **({"animations": [{"name": "set", "channels": channels, "samplers": samplers}]} if channels else {}),
    }  # fmt: skip
    path.write_bytes(container(json.dumps(document).encode(), bytes(buffer.data)))


def _triangles(buffer: Buffer, piece: SetPiece) -> dict[str, Any]:
    """The faces of an object as triangles of its points; what differs at the corners of a point has no place there."""
    one = piece.shown
    attributes = {"POSITION": buffer.add(one.points[0])}
    normals, texture = (_at_points(s, piece) for s in (one.normals, one.texture))
    if normals is not None:
        length = np.linalg.norm(normals, axis=1, keepdims=True)
        attributes["NORMAL"] = buffer.add(
            np.where(length > 0, normals / np.where(length > 0, length, 1.0), [0.0, 0, 1])
        )
    if texture is not None:
        attributes["TEXCOORD_0"] = buffer.add(texture * [1, -1] + [0, 1])
    return {
        "attributes": attributes,
        "indices": buffer.add_indices(fans(one.counts, one.corners).reshape(-1)),
        "mode": 4,
    }


def _at_points(spread: Spread | None, piece: SetPiece) -> Floats | None:
    """Values at each point of an object, as the format holds them; None where they differ between the corners of a point."""
    return None if spread is None else spread.at_points(piece.shown.corners, piece.shown.points.shape[1])
