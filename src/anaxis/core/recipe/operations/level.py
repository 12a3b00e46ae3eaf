"""The motion of one level above the camera held still, or taken out."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from anaxis.core.parameters import NodePath, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree


class Level(Parameters):
    node: NodePath = asked("Node")
    way: Literal["still", "out"] = asked("How")


def apply(work: Work, p: Level) -> Work:
    return replace(work, scene=tree.level_off(work.scene, p.node, p.way, float(work.frames[0])))


KIND = Kind(
    "level",
    "Mute a parent's motion",
    "tree",
    Level,
    apply,
    lambda p: f"{p.node} {'held at its first frame' if p.way == 'still' else 'removed'}",
    about_parents=True,
)
