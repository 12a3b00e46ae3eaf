"""Scale on a node above the camera taken out."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import NodePath, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree


class DropScale(Parameters):
    node: NodePath = asked("Node")


def apply(work: Work, p: DropScale) -> Work:
    return replace(work, scene=tree.without_scale(work.scene, p.node))


KIND = Kind("drop_scale", "Remove scale", "tree", DropScale, apply, lambda p: f"of {p.node}", about_parents=True)
