"""Camera, landmarks and set placed in another scene by one similarity."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.motion.placement import Similarity, similarity_of
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class Place(Parameters):
    scale: Number = asked("scale")
    qx: Number = asked("qx")
    qy: Number = asked("qy")
    qz: Number = asked("qz")
    qw: Number = asked("qw")
    x_m: Number = asked("x")
    y_m: Number = asked("y")
    z_m: Number = asked("z")
    told: str | None = asked("How", default=None)


def placement(p: Place) -> Similarity:
    return similarity_of(p.model_dump(exclude={"told"}))


def apply(work: Work, p: Place) -> Work:
    found = placement(p)
    lines, triangles = (found.points(m) if len(m) else m for m in (work.lines_m, work.triangles_m))
    moved = replace(work, track=found.track(work.done), landmarks=found.landmarks(work.landmarks))
    return replace(moved, lines_m=lines, triangles_m=triangles)


KIND = Kind(
    "place",
    "Place",
    "track",
    Place,
    apply,
    lambda p: p.told or f"scale {p.scale:g}",
    station="place",
    by_hand=False,
    placement=placement,
)
