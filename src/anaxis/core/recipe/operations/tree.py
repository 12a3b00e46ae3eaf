"""Operations on the tree of a file: axes and unit, parents, scale, what a camera is attached to and looks at."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from anaxis.core.parameters import NodePath, Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene import tree
from anaxis.core.scene.nodes import corrected
from anaxis.core.time.rates import parse_rate

UpAxis = Literal["X", "Y", "Z"]


class Correct(Parameters):
    """What the file leaves open, or says wrong: up axis, unit, frame rate."""

    up_axis: UpAxis | None = parameter("Up axis", default=None)
    metres_per_unit: Number | None = parameter("Metres per unit", "m", default=None)
    rate: str | None = parameter("Rate, frames/s", default=None)


def _correct(work: Work, p: Correct) -> Work:
    rate = parse_rate(p.rate) if p.rate is not None else None
    return replace(work, scene=corrected(work.scene, p.up_axis, p.metres_per_unit, rate))


def _correct_words(p: Correct) -> str:
    parts = [
        f"{p.up_axis} up" if p.up_axis else "",
        f"1 unit = {p.metres_per_unit:g} m" if p.metres_per_unit else "",
        f"{p.rate} frames/s" if p.rate else "",
    ]
    return ", ".join(x for x in parts if x)


CORRECT = Kind("correct", "Set axes, unit, frame rate", "tree", Correct, _correct, _correct_words, for_file=True)


class Inherit(Parameters):
    """A node that leaves its parents aside follows them again."""

    node: NodePath = parameter("Node")


def _inherit(work: Work, p: Inherit) -> Work:
    return replace(work, scene=tree.inheriting(work.scene, p.node))


INHERIT = Kind("inherit", "Inherit parent transforms", "tree", Inherit, _inherit, lambda p: p.node, about_parents=True)


class DropScale(Parameters):
    """Scale on a node above the camera removed."""

    node: NodePath = parameter("Node")


def _drop_scale(work: Work, p: DropScale) -> Work:
    return replace(work, scene=tree.without_scale(work.scene, p.node))


DROP_SCALE = Kind(
    "drop_scale", "Remove scale", "tree", DropScale, _drop_scale, lambda p: f"of {p.node}", about_parents=True
)


class Level(Parameters):
    """The motion of one level above the camera held still, or removed."""

    node: NodePath = parameter("Node")
    way: Literal["still", "out"] = parameter("How")


def _level(work: Work, p: Level) -> Work:
    return replace(work, scene=tree.level_off(work.scene, p.node, p.way, float(work.frames[0])))


LEVEL = Kind(
    "level",
    "Mute a parent's motion",
    "tree",
    Level,
    _level,
    lambda p: f"{p.node} {'held at its first frame' if p.way == 'still' else 'removed'}",
    about_parents=True,
)


class PlaceAt(Parameters):
    """The camera put where another node stands, its rotation kept."""

    node: NodePath = parameter("Node")


def _place_at(work: Work, p: PlaceAt) -> Work:
    return replace(work, scene=tree.placed_at(work.scene, work.path, p.node, work.frames))


PLACE_AT = Kind(
    "place_at",
    "Position from another node",
    "tree",
    PlaceAt,
    _place_at,
    lambda p: f"has the position of {p.node} stands",
)


class Attach(Parameters):
    """The camera made a child of another node."""

    node: NodePath = parameter("Node")
    keep_place: Literal["its own numbers", "where it stands"] | None = parameter("Offset", default=None)


def _attach(work: Work, p: Attach) -> Work:
    return replace(
        work, scene=tree.attached(work.scene, work.path, p.node, p.keep_place == "where it stands", work.frames)
    )


ATTACH = Kind("attach", "Parent to another node", "tree", Attach, _attach, lambda p: f"moves with {p.node}")


class Aim(Parameters):
    """The camera turned to look at another node, its roll kept."""

    node: NodePath = parameter("Node")


def _aim(work: Work, p: Aim) -> Work:
    return replace(work, scene=tree.aimed(work.scene, work.path, p.node, work.frames))


AIM = Kind("aim", "Aim at another node", "tree", Aim, _aim, lambda p: f"looks at {p.node}, roll kept")
