"""The baked camera moved, rotated, scaled or levelled as a whole."""

from __future__ import annotations

import numpy as np

from anaxis.core.motion.edits import levelled
from anaxis.core.motion.placement import Similarity, similarity_of
from anaxis.core.parameters import Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work


class LevelHorizon(Parameters):
    """The roll removed, the look kept."""


def _level_horizon(work: Work, p: LevelHorizon) -> Work:
    return work.with_track(levelled(work.done))


LEVEL_HORIZON = Kind(
    "level_horizon",
    "Level the horizon",
    "track",
    LevelHorizon,
    _level_horizon,
    lambda p: "removes roll, keeps the view direction",
)


class Shift(Parameters):
    """Camera, landmarks and set moved together."""

    x_m: Number = parameter("X", "m")
    y_m: Number = parameter("Y", "m")
    z_m: Number = parameter("Z", "m")


def _shift(work: Work, p: Shift) -> Work:
    return work.placed(Similarity(1.0, np.eye(3), np.array([p.x_m, p.y_m, p.z_m])))


SHIFT = Kind(
    "shift",
    "Offset camera, landmarks and set",
    "track",
    Shift,
    _shift,
    lambda p: f"{p.x_m:g}, {p.y_m:g}, {p.z_m:g} m (right, up, back)",
    station="place",
)


class Place(Parameters):
    """Camera, landmarks and set placed in another scene by one similarity."""

    scale: Number = parameter("scale")
    qx: Number = parameter("qx")
    qy: Number = parameter("qy")
    qz: Number = parameter("qz")
    qw: Number = parameter("qw")
    x_m: Number = parameter("x")
    y_m: Number = parameter("y")
    z_m: Number = parameter("z")
    told: str | None = parameter("How", default=None)


def placement(p: Place) -> Similarity:
    return similarity_of(p.model_dump(exclude={"told"}))


def _place(work: Work, p: Place) -> Work:
    return work.placed(placement(p))


PLACE = Kind(
    "place",
    "Place",
    "track",
    Place,
    _place,
    lambda p: p.told or f"scale {p.scale:g}",
    station="place",
    by_hand=False,
    placement=placement,
)
