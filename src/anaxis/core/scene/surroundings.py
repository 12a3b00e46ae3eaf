"""What stands round a camera: the scene's landmarks and the lines of its set, in canonical space."""

from __future__ import annotations

import numpy as np

from anaxis.core.scene.bake import node_positions_m, world_matrices
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks, joined
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.typing import Floats

# What moves by less, in metres, stands still.
_STILL = 1e-9


def landmarks_of(scene: Scene, frames: Floats) -> Landmarks:
    """The scene's landmarks on the given frames; those with a position that is no number are left out.

    Marked places come first. Pieces of the set are landmarks too, at their pivot where that lies
    within their bounds, else in the middle of them; where places are marked, pieces are hidden.
    """
    nodes = [n for n in scene.nodes if n.kind == "landmark"]
    marked = [
        Landmarks((n.name,), at[:, None], _size_of(n), frozenset({n.name} if n.hidden else ()))
        for n in nodes
        if np.isfinite(at := node_positions_m(scene, n.path, frames)).all()
    ]
    pieces = []
    for node, lines in set_pieces(scene, frames):
        if node.only_drawn:
            continue
        low, high = lines.min(axis=(0, 1)), lines.max(axis=(0, 1))
        pivot = node_positions_m(scene, node.path, frames)
        inside = (pivot[0] >= low - 1e-9).all() and (pivot[0] <= high + 1e-9).all()
        at = pivot if inside else _carried(scene, node, (low + high) / 2, frames)
        if np.ptp(at, axis=0).max() <= _STILL or not np.isfinite(at).all():
            at = at[:1]
        hidden = frozenset({node.name}) if marked else frozenset()
        pieces.append(Landmarks((node.name,), at[:, None], (high - low)[None], hidden))
    return joined([*marked, *pieces], len(frames)) if marked or pieces else NO_LANDMARKS


def _carried(scene: Scene, node: Node, at_m: Floats, frames: Floats) -> Floats:
    """Where a point (3,) that is ``at_m`` on the first of the frames goes with a node, (n or 1, 3) in canonical space."""
    world = world_matrices(scene, node.path, frames)
    own = np.linalg.solve(world[0], np.append(scene.convention.position_from_canonical(at_m), 1.0))
    return scene.convention.position_to_canonical((world @ own)[:, :3])


def _size_of(node: Node) -> Floats:
    return np.zeros((1, 3)) if node.size is None else node.size[None]


def set_triangles_m(scene: Scene, frame: float) -> Floats:
    """The set's surfaces in canonical space as they stand at one frame, (t, 3, 3) metres."""
    found = []
    for node in scene.nodes:
        if node.triangles is not None and len(node.triangles):
            placed = placed_m(scene, node, node.triangles, np.array([frame]))[0]
            if np.isfinite(placed).all():
                found.append(placed)
    return np.concatenate(found) if found else np.zeros((0, 3, 3))


def placed_m(scene: Scene, node: Node, points: Floats, frames: Floats) -> Floats:
    """A node's own points (..., 3) in canonical space on each of the frames, (n, ..., 3), or (1, ..., 3) where it stands."""
    world = world_matrices(scene, node.path, frames)
    flat = points.reshape(-1, 3)
    out = flat @ np.swapaxes(world[:, :3, :3], 1, 2) + world[:, None, :3, 3]
    return scene.convention.position_to_canonical(out.reshape(-1, 3)).reshape(len(world), *points.shape)


def set_lines_m(scene: Scene, frame: float) -> Floats:
    """The set's lines in canonical space as they stand at one frame, (s, 2, 3) metres."""
    pieces = [s for _, s in set_pieces(scene, np.array([frame]))]
    return np.concatenate(pieces) if pieces else np.zeros((0, 2, 3))


def set_pieces(scene: Scene, frames: Floats) -> list[tuple[Node, Floats]]:
    """The pieces of the set that have lines, with those lines at the first of ``frames``."""
    pieces = []
    for node in scene.nodes:
        if node.segments is not None and len(node.segments):
            world = world_matrices(scene, node.path, frames[:1])[0]
            placed = node.segments @ world[:3, :3].T + world[:3, 3]
            segments = scene.convention.position_to_canonical(placed)
            if np.isfinite(segments).all():
                pieces.append((node, segments))
    return pieces
