"""The camera turned to look at another node, its roll kept."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import NodePath, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree


class Aim(Parameters):
    node: NodePath = asked("Node")


def apply(work: Work, p: Aim) -> Work:
    return replace(work, scene=tree.aimed(work.scene, work.path, p.node, work.frames))


KIND = Kind("aim", "Aim at another node", "tree", Aim, apply, lambda p: f"looks at {p.node}, roll kept")
