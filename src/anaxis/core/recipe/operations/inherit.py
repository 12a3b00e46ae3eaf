"""A node that leaves its parents aside follows them again."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import NodePath, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree


class Inherit(Parameters):
    node: NodePath = asked("Node")


def apply(work: Work, p: Inherit) -> Work:
    return replace(work, scene=tree.inheriting(work.scene, p.node))


KIND = Kind("inherit", "Inherit parent transforms", "tree", Inherit, apply, lambda p: p.node, about_parents=True)
