"""What a file holds before flattening: a tree of nodes, with cameras, landmarks and set lines.

A scene stays in its file's axes and unit; ``convention`` says which, and :mod:`anaxis.core.scene.bake`
takes everything to canonical space.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from typing import Any, Literal

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.scene.mesh import Mesh
from anaxis.core.space.axes import Convention, axes_matrix
from anaxis.core.typing import Floats, Ints

# The right-handed world axes of a file by its up axis: right stays +X, but for X up it is -Y, as
# COLLADA has it.
UP_AXES = {"Y": np.eye(3), "Z": axes_matrix("+X", "+Z", "-Y"), "X": axes_matrix("-Y", "+X", "+Z")}

Kind = Literal["transform", "camera", "landmark", "set"]


def _no_keys() -> Floats:
    return np.zeros(0)


@dataclass(frozen=True, eq=False)
class Node:
    """One node of the tree.

    ``frames`` (k,) and ``local`` (k, 4, 4): its transform to the parent, column vectors, file
    units, held outside the first and last frame. ``keys`` are the frames the file itself has
    samples on (none for a still node). ``resets`` says that parents do not move it. A camera has
    a ``lens`` of k or 1 frames with its own ``lens_keys``; a set node has ``segments`` (s, 2, 3) and, where it is a mesh,
    ``triangles`` (t, 3, 3), none of them where they were too many, and the ``mesh`` with its faces as they came. Where it is
    ``stepped`` (its lens: ``lens_stepped``) a sample is held up to the next one. ``distortion`` is of one frame, or of
    all of ``frames``. ``marked`` (k,) says of a camera's samples which begin a new shot, as a track's does.
    A landmark may be ``hidden`` and stand for a piece of the set of a ``size`` (3,); ``only_drawn`` is a set that is none.
    The file may show a set node nowhere (``invisible``), or mark it as not for render (``guide``).
    """

    path: str
    parent: str | None
    kind: Kind
    frames: Floats
    local: Floats
    keys: Floats = field(default_factory=_no_keys)
    resets: bool = False
    lens: Lens | None = None
    lens_frames: Floats = field(default_factory=_no_keys)
    lens_keys: Floats = field(default_factory=_no_keys)
    segments: Floats | None = None
    stepped: bool = False
    lens_stepped: bool = False
    distortion: Distortion | None = None
    triangles: Floats | None = None
    marked: Ints | None = None
    hidden: bool = False
    size: Floats | None = None
    only_drawn: bool = False
    mesh: Mesh | None = None
    invisible: bool = False
    guide: bool = False

    @cached_property
    def name(self) -> str:
        return self.path.rsplit("/", 1)[-1]


def sampled_range(nodes: Iterable[Node]) -> tuple[float, float] | None:
    """The first and last frame on which any of the nodes has a sample; None where none has one."""
    keys = [k for n in nodes for k in (n.keys, n.lens_keys) if len(k)]
    return (min(float(k.min()) for k in keys), max(float(k.max()) for k in keys)) if keys else None


@dataclass(frozen=True, eq=False)
class Scene:
    """A file taken in. ``image`` is the resolution it states, if any; ``guesses`` maps a field that
    the file does not state to the reason for the value taken."""

    name: str
    format: str
    convention: Convention
    rate: Fraction
    first_frame: float
    last_frame: float
    nodes: tuple[Node, ...]
    image: Image | None = None
    source_fit: str | None = None
    lens_in_units: bool = False  # the file writes lens lengths in its own unit, so that they follow it
    in_seconds: bool = False  # the file's samples lie at seconds, so that a new rate moves them to other frames
    stated_rate: float | None = None  # as the file writes it, before the exact fraction was taken
    columns: dict[str, Any] | None = None  # column text: its first rows, and what each column was taken for
    guesses: dict[str, str] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()

    @cached_property
    def sampled(self) -> tuple[float, float] | None:
        """The first and last frame on which anything in it has a sample."""
        return sampled_range(self.nodes)

    @cached_property
    def by_path(self) -> dict[str, Node]:
        return {n.path: n for n in self.nodes}

    def node(self, path: str) -> Node:
        """The node at ``path``; raises BadInput where there is none."""
        if path not in self.by_path:
            raise BadInput(f"{self.name} has no node '{path}'.")
        return self.by_path[path]

    def replaced(self, *nodes: Node) -> Scene:
        """The scene with these nodes in the place of those at the same paths."""
        by_path = {n.path: n for n in nodes}
        return replace(self, nodes=tuple(by_path.get(n.path, n) for n in self.nodes))

    def chain(self, path: str) -> list[Node]:
        """The nodes that move ``path``, itself first, up to the root or to a node that resets."""
        by_path = self.by_path
        out: list[Node] = []
        here: str | None = path
        while here is not None and here in by_path:
            out.append(by_path[here])
            here = None if by_path[here].resets else by_path[here].parent
        return out

    @cached_property
    def cameras(self) -> list[Node]:
        return [n for n in self.nodes if n.kind == "camera"]

    def camera(self, path: str | None = None) -> Node:
        """The camera at ``path``, or by its name, or the only one.

        Raises BadInput that lists the cameras where the choice is not clear.
        """
        cameras = self.cameras
        if not cameras:
            raise BadInput(f"{self.name} holds no camera: export the shot camera with its parents and try again.")
        listed = ", ".join(n.path for n in cameras)
        if path is None:
            if len(cameras) == 1:
                return cameras[0]
            raise BadInput(f"{self.name} holds {len(cameras)} cameras, choose one with --camera: {listed}.")
        exact = [n for n in cameras if n.path == path]
        found = exact or [n for n in cameras if n.name == path]
        if len(found) == 1:
            return found[0]
        raise BadInput(f"{self.name} has {'more than one' if found else 'no'} camera '{path}'; it holds: {listed}.")


def corrected(
    scene: Scene, up_axis: str | None = None, metres_per_unit: float | None = None, rate: Fraction | None = None
) -> Scene:
    """The scene with what the file did not state set by hand; what is None stays as it is.

    A new unit carries along what the file wrote in it: focus, near and far always, lens lengths
    where ``lens_in_units``. A new rate keeps every frame's pose, except where the file's samples lie
    at seconds (``in_seconds``): those keep their time. Raises BadInput for an up axis other
    than X, Y or Z, or a unit that is not above zero.
    """
    convention, nodes, guesses = scene.convention, scene.nodes, dict(scene.guesses)
    if up_axis is not None:
        if up_axis not in UP_AXES:
            raise BadInput(f"'{up_axis}' is not an up axis a file can have: write X, Y or Z.")
        convention = replace(convention, world=UP_AXES[up_axis])
        guesses.pop("up_axis", None)
    if metres_per_unit is not None:
        convention = replace(convention, metres_per_unit=metres_per_unit)
        ratio = metres_per_unit / scene.convention.metres_per_unit
        nodes = tuple(_with_unit(n, ratio, scene.lens_in_units) for n in nodes)
        guesses.pop("metres_per_unit", None)
    if rate is not None:
        guesses.pop("rate", None)
        # What the file itself said of its rate no longer counts.
        left = tuple(f for f in scene.findings if f.code != "rate_two_values")
        scene = replace(scene, stated_rate=None, findings=left)
        if scene.in_seconds and rate != scene.rate:
            scene, nodes = _at_rate(replace(scene, nodes=nodes), rate)
    return replace(scene, convention=convention, nodes=nodes, guesses=guesses, rate=rate or scene.rate)


def _at_rate(scene: Scene, rate: Fraction) -> tuple[Scene, tuple[Node, ...]]:
    """The same samples at the same seconds, counted in frames of another rate."""
    ratio = float(rate / scene.rate)
    nodes = tuple(
        replace(
            n,
            frames=snapped(n.frames * ratio),
            keys=snapped(n.keys * ratio),
            lens_frames=snapped(n.lens_frames * ratio),
            lens_keys=snapped(n.lens_keys * ratio),
            mesh=None if n.mesh is None else replace(n.mesh, frames=snapped(n.mesh.frames * ratio)),
        )
        for n in scene.nodes
    )
    first, last = snapped(np.array([scene.first_frame, scene.last_frame]) * ratio).tolist()
    return replace(scene, nodes=nodes, first_frame=first, last_frame=last), nodes


def snapped(frames: Floats) -> Floats:
    """Frame numbers with what is all but a whole one put on it.

    Within a ten-thousandth, and as much more as seconds in single precision are off that late.
    """
    whole = np.round(frames)
    slack = 1e-4 + 2 * float(np.finfo(np.float32).eps) * np.abs(frames)
    return np.where(np.abs(frames - whole) < slack, whole, frames) + 0.0


def _with_unit(node: Node, ratio: float, lens_in_units: bool) -> Node:
    if node.lens is None or ratio == 1:
        return node
    names = ["focus_m", "near_m", "far_m"]
    if lens_in_units:
        names += ["focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"]
    return replace(node, lens=replace(node.lens, **{k: getattr(node.lens, k) * ratio for k in names}))
