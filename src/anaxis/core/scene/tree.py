"""Work on the node tree before it is flattened: aim, attach, take a position, drop scale, hold a level.

What depends on other nodes is evaluated on given frames, those that will be baked, and on every
sample of the nodes involved, so that no baked frame is ever interpolated.
"""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import chain_keys, local_matrices, unit_axes, world_matrices
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.typing import Floats

_VERTICAL = 1e-6
LEVEL_WAYS = ("still", "out")


def aimed(scene: Scene, path: str, target: str, frames: Floats) -> Scene:
    """The camera at ``path`` turned to look at a node, with the roll it has to the horizon.

    Raises BadInput where camera and target stand at one point.
    """
    node = scene.camera(path)
    at = _involved(scene, frames, path, target)
    world = _world(scene, path, at)
    rotation = unit_axes(scene.convention.rotation_to_canonical(world[:, :3, :3]))[0]
    position = scene.convention.position_to_canonical(world[:, :3, 3])
    goal = scene.convention.position_to_canonical(_world(scene, target, at)[:, :3, 3])
    away = position - goal
    distance = np.linalg.norm(away, axis=1)
    if (distance < 1e-9).any():
        frame = at[int(np.argmax(distance < 1e-9))]
        raise BadInput(
            f"{node.name} and its target {target} are at the same point at frame {frame:g}: choose another target."
        )
    level = level_axes(away / distance[:, None], rotation[:, :, 0])
    turned = level @ _about_z(roll_deg(rotation))
    return scene.replaced(_standing(scene, node, at, position, turned))


def placed_at(scene: Scene, path: str, source: str, frames: Floats) -> Scene:
    """The camera at ``path`` with its position taken from another node; it keeps its turn."""
    node = scene.camera(path)
    at = _involved(scene, frames, path, source)
    world = _world(scene, path, at)
    rotation = unit_axes(scene.convention.rotation_to_canonical(world[:, :3, :3]))[0]
    position = scene.convention.position_to_canonical(_world(scene, source, at)[:, :3, 3])
    return scene.replaced(_standing(scene, node, at, position, rotation))


def attached(scene: Scene, path: str, parent: str, keep_place: bool, frames: Floats) -> Scene:
    """The camera hung under another node, with its own numbers or, with ``keep_place``, where it stands
    at the first of ``frames``. Raises BadInput for a node that the camera itself moves."""
    node = scene.camera(path)
    scene.node(parent)
    if path in [n.path for n in scene.chain(parent)]:
        raise BadInput(f"{node.name} moves {parent}, so it cannot be its child: choose another node.")
    moved = replace(node, parent=parent, resets=False)
    if keep_place:
        first = frames[:1]
        before, above = _world(scene, path, first)[0], _world(scene, parent, first)[0]
        own = local_matrices(node, first)[0]
        if abs(np.linalg.det(above)) < 1e-15:
            raise BadInput(f"{parent} has a scale of 0 at frame {first[0]:g}: choose another node.")
        shift = np.linalg.inv(above) @ before @ np.linalg.inv(own)
        moved = replace(moved, local=shift @ node.local)
    return scene.replaced(moved)


def inheriting(scene: Scene, path: str) -> Scene:
    """A node that shuts out its parents, moved by them again."""
    return scene.replaced(replace(scene.node(path), resets=False))


def without_scale(scene: Scene, path: str) -> Scene:
    """A node with its own scale, shear and mirror removed; what it holds moves closer or further."""
    node = scene.node(path)
    rotation = unit_axes(node.local[:, :3, :3])[0]
    if not np.isfinite(rotation).all():
        raise BadInput(f"{path} has a scale of 0 at some frame, which loses its rotation: repair it in the source.")
    local = node.local.copy()
    local[:, :3, :3] = rotation
    return scene.replaced(replace(node, local=local))


def level_off(scene: Scene, path: str, way: str, first_frame: float) -> Scene:
    """A node that no longer moves: held ``still`` as at ``first_frame``, or taken ``out`` altogether."""
    if way not in LEVEL_WAYS:
        raise BadInput(f"'{way}' is not a way to switch a level off: choose still or out.")
    node = scene.node(path)
    local = np.eye(4)[None] if way == "out" else local_matrices(node, np.array([first_frame]))
    return scene.replaced(replace(node, frames=np.zeros(1), local=local[:1], keys=np.zeros(0)))


class Levels(NamedTuple):
    """What each level of a chain adds to the motion since the first frame.

    ``moved_m`` (k, n) is how far and ``turned_deg`` (k, n) by how much the camera would be off at a
    frame, were that level held as it is at the first; innermost first.
    """

    nodes: list[Node]
    moved_m: Floats
    turned_deg: Floats


def levels(scene: Scene, path: str, frames: Floats) -> Levels:
    """The chain of a camera with each level's share of the motion on ``frames`` (n,)."""
    chain = scene.chain(path)
    own = [np.broadcast_to(local_matrices(n, frames), (len(frames), 4, 4)) for n in chain]
    below = [np.broadcast_to(np.eye(4), (len(frames), 4, 4))]  # the product of everything inside a level
    for m in own[:-1]:
        below.append(m @ below[-1])
    above = [np.broadcast_to(np.eye(4), (len(frames), 4, 4))]
    for m in own[:0:-1]:
        above.append(above[-1] @ m)
    above.reverse()
    whole = above[0] @ own[0]
    axes = unit_axes(whole[:, :3, :3])[0]
    moved, turned = np.zeros((len(chain), len(frames))), np.zeros((len(chain), len(frames)))
    for i, m in enumerate(own):
        held = above[i] @ m[:1] @ below[i]
        moved[i] = np.linalg.norm(held[:, :3, 3] - whole[:, :3, 3], axis=1) * scene.convention.metres_per_unit
        turned[i] = angle_between_deg(axes, unit_axes(held[:, :3, :3])[0])
    return Levels(chain, moved, turned)


def angle_between_deg(a: Floats, b: Floats) -> Floats:
    """The angle of the turn from rotations ``a`` (n, 3, 3) to ``b``, (n,) degrees, exact near zero too."""
    # |A - B| in the Frobenius norm is 2 sqrt(2) sin(angle / 2).
    half = np.linalg.norm(a - b, axis=(1, 2)) / (2 * np.sqrt(2))
    return np.degrees(2 * np.arcsin(np.clip(half, 0.0, 1.0)))


def level_axes(back: Floats, spare_right: Floats) -> Floats:
    """Rotations (n, 3, 3) that look along ``-back`` (n, 3) with a level horizon (canonical, Y up).

    Where a camera looks straight up or down there is no horizon: the right axis then stays as near
    to ``spare_right`` (n, 3) as it can.
    """
    right = np.cross([0.0, 1.0, 0.0], back)
    length = np.linalg.norm(right, axis=1, keepdims=True)
    spare = spare_right - np.sum(spare_right * back, axis=1, keepdims=True) * back
    right = np.where(length < _VERTICAL, spare, right)
    right = right / np.linalg.norm(right, axis=1, keepdims=True)
    return np.stack([right, np.cross(back, right), back], axis=2)


def roll_deg(rotation: Floats) -> Floats:
    """The turn about the look axis from the level horizon, (n,) degrees; 0 looking straight up or down."""
    level = level_axes(rotation[:, :, 2], rotation[:, :, 0])
    right = rotation[:, :, 0]
    return np.degrees(np.arctan2(np.sum(right * level[:, :, 1], 1), np.sum(right * level[:, :, 0], 1)))


def _about_z(angle_deg: Floats) -> Floats:
    out = np.tile(np.eye(3), (len(angle_deg), 1, 1))
    angle = np.radians(angle_deg)
    out[:, 0, 0] = out[:, 1, 1] = np.cos(angle)
    out[:, 1, 0], out[:, 0, 1] = np.sin(angle), -np.sin(angle)
    return out


def _involved(scene: Scene, frames: Floats, *paths: str) -> Floats:
    for path in paths:
        scene.node(path)
    return np.unique(np.concatenate([frames, *(chain_keys(scene, p) for p in paths)]))


def _world(scene: Scene, path: str, frames: Floats) -> Floats:
    return np.broadcast_to(world_matrices(scene, path, frames), (len(frames), 4, 4))


def _standing(scene: Scene, node: Node, frames: Floats, position_m: Floats, rotation: Floats) -> Node:
    """A camera node that stands in the world by itself."""
    local = np.tile(np.eye(4), (len(frames), 1, 1))
    local[:, :3, :3] = scene.convention.rotation_from_canonical(rotation)
    local[:, :3, 3] = scene.convention.position_from_canonical(position_m)
    return replace(node, frames=frames, local=local, keys=frames, resets=True, stepped=False)
