"""The camera put where another node stands, its rotation kept."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.parameters import NodePath, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree


class PlaceAt(Parameters):
    node: NodePath = asked("Node")


def apply(work: Work, p: PlaceAt) -> Work:
    return replace(work, scene=tree.placed_at(work.scene, work.path, p.node, work.frames))


KIND = Kind("place_at", "Position from another node", "tree", PlaceAt, apply, lambda p: f"stands where {p.node} stands")
