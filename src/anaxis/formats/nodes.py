"""What the nodes of a written file are called, and which of them stand where, the same in every format."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from anaxis.core.motion.placement import Similarity
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.landmarks import node_name
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats


class Root(NamedTuple):
    """The node above a camera and its landmarks, and the turn and shift that it carries."""

    name: str
    placement: Similarity


@dataclass(frozen=True, eq=False)
class SampledNode:
    """One camera of a file: its node's ``name``, the ``root`` above it where it has one, and its landmarks by name.

    ``outgoing.track`` is the camera as its own node has it: below the root, where there is one. ``marks``
    (m or 1, 3) stand beside the camera, in metres; those of an earlier camera at the same place are left out.
    """

    name: str
    root: Root | None
    outgoing: Outgoing
    marks: list[tuple[str, Floats]]


def node_names(cameras: Sequence[str]) -> list[str]:
    """The names of a file's cameras, in their order."""
    taken: set[str] = set()
    return [node_name(c, taken) for c in cameras]


def nodes_of(cameras: Sequence[Outgoing]) -> Iterator[SampledNode]:
    """The nodes to write, camera after camera."""
    names = node_names([c.track.name for c in cameras])
    taken, written = set(names), set()
    for name, outgoing in zip(names, cameras, strict=True):
        root, marks = None, outgoing.landmarks
        if outgoing.root is not None:
            marks = outgoing.root.inverse().landmarks(marks)
        own = []
        for i, mark in enumerate(marks.names):
            place = marks.position_m[:, i]
            # Below a root of its own even the same landmark is another node.
            same = (name if outgoing.root is not None else "", mark, place.tobytes())
            if same not in written:
                written.add(same)
                own.append((node_name(mark, taken), place))
        if outgoing.root is not None:
            root = Root(node_name(f"{name}_root", taken), outgoing.root)
        yield SampledNode(name, root, replace(outgoing, track=outgoing.below_root), own)


def places(node: SampledNode, convention: Convention) -> list[tuple[str, Floats]]:
    """A node's landmarks, (m or 1, 3) each, in a convention's axes and unit."""
    return [(name, convention.position_from_canonical(place)) for name, place in node.marks]
