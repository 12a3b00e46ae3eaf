"""The camera made a child of another node."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from anaxis.core.parameters import NodePath, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree


class Attach(Parameters):
    node: NodePath = asked("Node")
    keep_place: Literal["its own numbers", "where it stands"] | None = asked("Its offset", default=None)


def apply(work: Work, p: Attach) -> Work:
    return replace(
        work, scene=tree.attached(work.scene, work.path, p.node, p.keep_place == "where it stands", work.frames)
    )


KIND = Kind("attach", "Parent to another node", "tree", Attach, apply, lambda p: f"moves with {p.node}")
