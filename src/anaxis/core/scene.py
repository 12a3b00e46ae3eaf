"""What a file holds before flattening: a tree of nodes, with cameras, landmarks and set lines.

A scene stays in its file's axes and unit; ``convention`` says which, and :mod:`anaxis.core.bake`
takes everything to canonical space.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

import numpy as np

from anaxis.core.axes import Convention
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.lens import Image
from anaxis.core.track import Lens
from anaxis.core.typing import Floats

Kind = Literal["transform", "camera", "landmark", "set"]


def _no_keys() -> Floats:
    return np.zeros(0)


@dataclass(frozen=True, eq=False)
class Node:
    """One node of the tree.

    ``frames`` (k,) and ``local`` (k, 4, 4): its transform to the parent, column vectors, file
    units, held outside the first and last frame. ``keys`` are the frames the file itself has
    samples on (none for a still node). ``resets`` says that parents do not move it. A camera has
    a ``lens`` of k or 1 frames with its own ``lens_keys``; a set node has ``segments`` (s, 2, 3).
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

    @property
    def name(self) -> str:
        return self.path.rsplit("/", 1)[-1]


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
    guesses: dict[str, str] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()

    def node(self, path: str) -> Node:
        for node in self.nodes:
            if node.path == path:
                return node
        raise BadInput(f"{self.name} has no node '{path}'.")

    def chain(self, path: str) -> list[Node]:
        """The nodes that move ``path``, itself first, up to the root or to a node that resets."""
        by_path = {n.path: n for n in self.nodes}
        out: list[Node] = []
        here: str | None = path
        while here is not None and here in by_path:
            out.append(by_path[here])
            here = None if by_path[here].resets else by_path[here].parent
        return out

    @property
    def cameras(self) -> list[Node]:
        return [n for n in self.nodes if n.kind == "camera"]

    def camera(self, path: str | None = None) -> Node:
        """The camera at ``path``, or by its name, or the only one.

        Raises BadInput that lists the cameras where the choice is not clear.
        """
        cameras = self.cameras
        if not cameras:
            raise BadInput(
                f"{self.name} holds no camera: export the shot camera with its parents and try again."
            )
        listed = ", ".join(n.path for n in cameras)
        if path is None:
            if len(cameras) == 1:
                return cameras[0]
            raise BadInput(f"{self.name} holds {len(cameras)} cameras, choose one with --camera: {listed}.")
        exact = [n for n in cameras if n.path == path]
        found = exact or [n for n in cameras if n.name == path]
        if len(found) == 1:
            return found[0]
        raise BadInput(
            f"{self.name} has {'more than one' if found else 'no'} camera '{path}'; it holds: {listed}."
        )
