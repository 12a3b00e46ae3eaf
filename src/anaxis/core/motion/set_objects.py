"""The objects of a set as they stand round a camera: meshes with their way through canonical space, on the camera's frames."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from anaxis.core.motion.placement import Similarity, no_placement
from anaxis.core.names import listed
from anaxis.core.parameters import Parameters, parameter
from anaxis.core.scene.bake import world_matrices
from anaxis.core.scene.landmarks import unique_name
from anaxis.core.scene.mesh import Spread
from anaxis.core.scene.nodes import Scene
from anaxis.core.typing import Floats, Ints

_STILL = 1e-9
# Points of one object that deforms, over all frames of a camera.
MAX_DEFORMING = 12_000_000


class ObjectChoice(Parameters):
    """What is to happen to an object of the set, which is named by its path (:attr:`SetObject.path`)."""

    path: str = parameter("Object")
    along: bool = parameter("Delivered", default=True)
    name: str | None = parameter("Name", default=None)
    group: str | None = parameter("Group", default=None)
    hidden: bool = parameter("Hidden", default=False)
    guide: bool = parameter("Not for render", default=False)


@dataclass(frozen=True, eq=False)
class SetObject:
    """A mesh of the set: its ``points`` (1 or n, p, 3) in its own space, ``counts`` (f,) and ``corners`` of its faces, and
    ``matrix_m`` (1 or n, 4, 4), which takes its points to canonical metres on each of the camera's n frames.

    ``path`` is its node's path, behind "file:" where another file adds it; ``note`` says what of it stays behind. It may have
    ``normals`` and ``texture`` coordinates, stand in a ``group``, be ``hidden``, or be a ``guide``: not for render.
    """

    name: str
    points: Floats
    counts: Ints
    corners: Ints
    matrix_m: Floats
    note: str = ""
    path: str = ""
    normals: Spread | None = None
    texture: Spread | None = None
    group: str = ""
    hidden: bool = False
    guide: bool = False

    @property
    def deforms(self) -> bool:
        return len(self.points) > 1

    @property
    def moves(self) -> bool:
        """Whether it stands elsewhere on some frame, or has another shape."""
        return self.deforms or len(self.matrix_m) > 1

    def at_frames(self, index: Ints) -> SetObject:
        """The same object where only the frames at ``index`` (k,) are kept."""
        return replace(
            self, points=self.points[index] if self.deforms else self.points,
            matrix_m=self.matrix_m[index] if len(self.matrix_m) > 1 else self.matrix_m,
        )  # fmt: skip

    def places_m(self, at: Ints) -> Floats:
        """Some of its points, by their index (k,), in canonical metres: (1 or n, k, 3)."""
        points = self.points[:, at]
        return np.asarray(points @ np.swapaxes(self.matrix_m[:, :3, :3], 1, 2) + self.matrix_m[:, None, :3, 3])

    def points_m(self, at: int) -> Floats:
        """All of its points on the frame at a place, in canonical metres: (p, 3)."""
        points, matrix = (a[at if len(a) > 1 else 0] for a in (self.points, self.matrix_m))
        return np.asarray(points @ matrix[:3, :3].T + matrix[:3, 3])


class PlacedSet(NamedTuple):
    """The set of a file round a camera: ``frames`` (n,) of the file that the camera's samples show, and where all of it was placed
    since. ``file`` names another file than the camera's own; ``note`` says what of its motion stays behind."""

    scene: Scene
    frames: Floats
    placement: Similarity
    file: str = ""
    note: str = ""

    @staticmethod
    def of(scene: Scene, frames: Floats, file: str = "") -> PlacedSet:
        return PlacedSet(scene, frames, no_placement(), file)

    def _to_m(self) -> Floats:
        """What takes the file's world to where it stands in canonical metres, (4, 4)."""
        to_m = np.eye(4)
        convention, placed = self.scene.convention, self.placement
        to_m[:3, :3] = placed.scale * convention.metres_per_unit * (placed.turn @ convention.world.T)
        to_m[:3, 3] = placed.shift_m
        return to_m

    def curves_m(self) -> Floats:
        """The lines of curves, which have no faces, as they stand on the first frame, (s, 2, 3)."""
        found, to_m = [np.zeros((0, 2, 3))], self._to_m()
        for node in self.scene.nodes:
            if node.mesh is None and node.segments is not None and len(node.segments):
                matrix = to_m @ world_matrices(self.scene, node.path, self.frames[:1])[0]
                placed = node.segments @ matrix[:3, :3].T + matrix[:3, 3]
                found += [placed] if np.isfinite(placed).all() else []
        return np.concatenate(found)

    def objects(self) -> list[SetObject]:
        """Its meshes; what stands still has one matrix, and points of one frame where it does not deform."""
        found, to_m = [], self._to_m()
        for node in self.scene.nodes:
            if node.mesh is None or node.hidden or node.only_drawn:
                continue
            matrix = to_m @ world_matrices(self.scene, node.path, self.frames)
            points, note = node.mesh.at(self.frames[:1]), ""
            if node.mesh.deforms and len(self.frames) * points.shape[1] <= MAX_DEFORMING:
                points = node.mesh.at(self.frames)
            elif node.mesh.deforms:
                note = (
                    f"'{node.name}' deforms; Anaxis delivers its shape on the first frame: {points.shape[1]} points on "
                    f"{len(self.frames)} frames are too many."
                )
            if not (np.isfinite(matrix).all() and np.isfinite(points).all()):
                continue
            still = np.abs(matrix - matrix[:1]).max() <= _STILL * max(1.0, float(np.abs(matrix[0]).max()))
            deforms = len(points) > 1
            found.append(
                SetObject(
                    node.name, points, node.mesh.counts, node.mesh.corners, matrix[:1] if still else matrix, note,
                    f"{self.file}:{node.path}" if self.file else node.path,
                    None if deforms else node.mesh.normals, node.mesh.texture, hidden=node.invisible, guide=node.guide,
                )
            )  # fmt: skip
        return found


def objects_of(sets: tuple[PlacedSet, ...]) -> tuple[SetObject, ...]:
    """The objects of several sets, their names made unique."""
    taken: set[str] = set()
    return tuple(replace(one, name=unique_name(one.name, taken)) for placed in sets for one in placed.objects())


class SetAlong(NamedTuple):
    """The objects of a set that go along with a camera, sentences about it, and the lines of its curves, (s, 2, 3)."""

    objects: tuple[SetObject, ...]
    notes: tuple[str, ...]
    curves_m: Floats

    def at_frames(self, index: Ints) -> SetAlong:
        """The same where only the frames at ``index`` (k,) are kept."""
        return self._replace(objects=tuple(o.at_frames(index) for o in self.objects))


def set_along(sets: tuple[PlacedSet, ...], choices: Sequence[ObjectChoice]) -> SetAlong:
    """The objects that go along, as they were chosen to; what no choice names goes along as it is."""
    objects = objects_of(sets)
    by_path = {c.path: c for c in choices}
    taken: set[str] = set()
    out = []
    for one in objects:
        choice = by_path.get(one.path)
        if choice is None:
            out.append(replace(one, name=unique_name(one.name, taken)))
        elif choice.along:
            name = unique_name(choice.name or one.name, taken)
            out.append(replace(one, name=name, group=choice.group or "", hidden=choice.hidden, guide=choice.guide))
    there = {o.path for o in objects}
    unknown = [c.path for c in choices if c.path not in there]
    notes = [s.note for s in sets if s.note]
    if unknown:
        notes.append(f"The recipe names {listed(unknown)}, which the set does not have: check Place.")
    return SetAlong(tuple(out), tuple(notes), np.concatenate([np.zeros((0, 2, 3)), *(s.curves_m() for s in sets)]))
