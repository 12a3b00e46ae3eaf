"""Bake: evaluate the node tree at every frame into one track in world space.

Vectorised: a chain of five parents over 10,000 frames is five stacked matrix products.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np
import scipy

from anaxis.core.camera.track import Lens, Track, is_moving
from anaxis.core.errors import BadInput
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.time.rates import format_frame, frame_range, nearest_places
from anaxis.core.typing import Bools, Floats, Ints

_ON_FRAME = 1e-6
_UNIT = 1e-12


@dataclass(frozen=True, eq=False)
class Baked:
    """A flattened camera and what flattening found.

    ``scale`` (n, 3) is the length of the camera's world axes before they were made unit length,
    ``shear`` (n,) the largest cosine between two of them, ``mirrored`` (n,) whether they were
    left-handed in a right-handed file. ``keys`` are the file's own sample frames along the chain.
    """

    node: Node
    parents: tuple[Node, ...]
    track: Track
    scale: Floats
    shear: Floats
    mirrored: Bools
    keys: Floats

    @cached_property
    def travel_m(self) -> float:
        """The longest side of the box that the camera moves in."""
        return float(np.ptp(self.track.position_m, axis=0).max())

    @cached_property
    def moves(self) -> bool:
        """Whether the camera's position or rotation changes at all over its frames."""
        return is_moving(self.track)

    @cached_property
    def start(self) -> tuple[float, list[float]]:
        """Its first frame, and its position there, (3,) metres."""
        return float(self.track.frames[0]), self.track.position_m[0].tolist()

    def place_m(self, frame: float) -> list[float] | None:
        """Its position at a frame, (3,); None where it has no sample there. A hundred thousand pairs of cameras ask for the first."""
        begins, here = self.start
        if frame == begins:
            return here
        at = min(int(np.searchsorted(self.track.frames, frame)), len(self.track) - 1)
        return self.track.position_m[at].tolist() if self.track.frames[at] == frame else None


def chain_keys(scene: Scene, path: str) -> Floats:
    """The frames on which any node that moves ``path``, or its lens, has a sample in the file."""
    chain = scene.chain(path)
    every = [n.keys for n in chain] + [chain[0].lens_keys]
    return np.unique(np.concatenate(every))


def camera_range(scene: Scene, path: str) -> tuple[float, float]:
    """First and last frame of a camera: those of its samples, or the file's where it has at most one."""
    keys = chain_keys(scene, path)
    if len(keys) > 1:
        return float(keys[0]), float(keys[-1])
    return scene.first_frame, scene.last_frame


def local_matrices(node: Node, frames: Floats) -> Floats:
    """A node's transform to its parent, (n, 4, 4), or (1, 4, 4) where it does not move.

    A sample exactly on a frame is taken as it is; before the first and after the last the motion
    is held; between two, position and stretch go linearly and rotation along the shortest arc.
    """
    if len(node.frames) <= 1:
        return node.local[:1]
    if np.array_equal(node.frames, frames):
        return node.local
    at = np.clip(frames, node.frames[0], node.frames[-1])
    right = np.clip(np.searchsorted(node.frames, at), 0, len(node.frames) - 1)
    left = np.maximum(right - 1, 0)
    if node.stepped:
        return node.local[np.where(np.abs(node.frames[right] - at) <= _ON_FRAME, right, left)]
    nearest = nearest_places(node.frames, at)
    out = node.local[nearest]
    between = np.abs(node.frames[nearest] - at) > _ON_FRAME
    if between.any():
        out = out.copy()
        out[between] = _blend(node, at[between], left[between], right[between])
    return out


def _blend(node: Node, at: Floats, left: Ints, right: Ints) -> Floats:
    share = ((at - node.frames[left]) / (node.frames[right] - node.frames[left]))[:, None, None]
    pairs = np.unique(np.concatenate([left, right]))
    # Polar decomposition through the SVD: M = (U V^T)(V S V^T), a rotation times a stretch.
    u, s, vt = np.linalg.svd(node.local[pairs, :3, :3])
    turn, stretch = u @ vt, np.swapaxes(vt, 1, 2) @ (s[:, :, None] * vt)
    # A mirrored node has a polar factor of determinant -1: let the stretch carry the mirror.
    sign = np.sign(np.linalg.det(turn))[:, None, None]
    slerp = scipy.spatial.transform.Slerp(node.frames[pairs], scipy.spatial.transform.Rotation.from_matrix(turn * sign))
    a, b = np.searchsorted(pairs, left), np.searchsorted(pairs, right)
    mixed = (1 - share) * (sign * stretch)[a] + share * (sign * stretch)[b]
    out = (1 - share) * node.local[left] + share * node.local[right]
    out[:, :3, :3] = slerp(at).as_matrix() @ mixed
    return out


def world_matrices(scene: Scene, path: str, frames: Floats) -> Floats:
    """A node's transform to the world in the file's axes and unit, (n, 4, 4) or (1, 4, 4) if still."""
    chain = scene.chain(path)
    world = local_matrices(chain[0], frames)
    for parent in chain[1:]:
        world = local_matrices(parent, frames) @ world
    return world


def node_positions_m(scene: Scene, path: str, frames: Floats) -> Floats:
    """A node's origin in canonical space, (n, 3) or (1, 3) if it does not move."""
    return scene.convention.position_to_canonical(world_matrices(scene, path, frames)[:, :3, 3])


def unit_axes(linear: Floats) -> tuple[Floats, Floats, Floats, Bools]:
    """Split (n, 3, 3) matrices into a proper rotation and what was wrong with it.

    The look axis keeps its direction exactly, the up axis as nearly as a right angle allows: of
    all ways to square up a sheared camera this one keeps the middle of the picture where it is.

    Returns:
        rotation (n, 3, 3), scale (n, 3), shear (n,), mirrored (n,). Axes without length come out
        as NaN.
    """
    scale = np.sqrt(np.einsum("nij,nij->nj", linear, linear))
    with np.errstate(invalid="ignore", divide="ignore"):
        unit = linear / scale[:, None, :]
        x, y, z = unit[..., 0], unit[..., 1], unit[..., 2]
        # Sums of three products: along so short an axis numpy's own reductions cost several times more.
        cosines = np.abs(np.einsum("ni,kni->kn", x, np.stack([y, z])))
        shear = np.maximum(np.maximum(cosines[0], cosines[1]), np.abs(np.einsum("ni,ni->n", y, z)))
        right = np.cross(y, z)
        mirrored = np.einsum("ni,ni->n", x, right) < 0
        right /= np.sqrt(np.einsum("ni,ni->n", right, right))[:, None]
        rotation = np.stack([right, np.cross(z, right), z], axis=2)
        # A matrix that is a rotation already is taken as it is, to the last bit.
        far = np.abs(scale - 1)
        clean = (np.maximum(np.maximum(far[:, 0], far[:, 1]), far[:, 2]) < _UNIT) & (shear < _UNIT) & ~mirrored
    return np.where(clean[:, None, None], linear, rotation), scale, shear, mirrored


def bake_camera(scene: Scene, path: str | None = None, frames: Floats | None = None) -> Baked:
    """Flatten a camera: parents, scale and unit go, one sample on every frame stays.

    Parameters:
        path: the camera's path or name; may be left out where the file has one camera.
        frames: (n,) frame numbers; every whole frame of the camera's range if left out.

    Raises BadInput where the camera is not found, or where its axes have no length at a frame.
    NaN in the file stays NaN: :func:`anaxis.core.camera.track.require_usable` says where.
    """
    node = scene.camera(path)
    assert node.lens is not None
    if frames is None:
        frames = frame_range(*camera_range(scene, node.path), f"{scene.name}, camera {node.path},")
    world = np.broadcast_to(world_matrices(scene, node.path, frames), (len(frames), 4, 4))
    # The file's camera axes come off before squaring up, so that the look axis is the one kept.
    linear = scene.convention.rotation_to_canonical(world[:, :3, :3])
    rotation, scale, shear, mirrored = unit_axes(linear)
    # Two of the axes would give a rotation, whatever the third says.
    rotation[~np.isfinite(linear).all(axis=(1, 2))] = np.nan
    flat = (scale == 0).any(axis=1)
    if flat.any():
        raise BadInput(
            f"{scene.name}, {node.path}: the camera's axes have no length at frame "
            f"{format_frame(frames[np.argmax(flat)])} (a scale of 0 on it or a parent): remove that scale."
        )
    track = Track(
        name=node.name,
        frames=frames,
        rate=scene.rate,
        position_m=scene.convention.position_to_canonical(world[:, :3, 3]),
        rotation=rotation,
        lens=_lens_at(node, frames),
        marked=_marked_at(node, frames),
        distortion=None
        if node.distortion is None
        else node.distortion.changed(lambda v: np.interp(frames, node.frames, v)),
    )
    return Baked(node, tuple(scene.chain(node.path)[1:]), track, scale, shear, mirrored, chain_keys(scene, node.path))


def _marked_at(node: Node, frames: Floats) -> Ints | None:
    """What is marked of the samples that lie on ``frames``."""
    if node.marked is None:
        return None
    nearest = nearest_places(node.frames, frames)
    return np.where(np.abs(node.frames[nearest] - frames) <= _ON_FRAME, node.marked[nearest], 0)


def _lens_at(node: Node, frames: Floats) -> Lens:
    assert node.lens is not None
    known = node.lens_frames
    if len(known) <= 1:
        return node.lens.select_frames(np.zeros(len(frames), dtype=np.int64))
    if np.array_equal(frames, known):
        return node.lens
    if node.lens_stepped:
        return node.lens.select_frames(
            np.clip(np.searchsorted(known, frames + _ON_FRAME, side="right") - 1, 0, len(known) - 1)
        )
    return Lens(**{f.name: np.interp(frames, known, getattr(node.lens, f.name)) for f in fields(Lens)})
