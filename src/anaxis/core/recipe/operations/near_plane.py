"""The near clip, on every frame."""

from __future__ import annotations

from anaxis.core.motion.edits import with_near
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class NearPlane(Parameters):
    near_m: Number = asked("Near", "m")


def apply(work: Work, p: NearPlane) -> Work:
    return work.with_track(with_near(work.done, p.near_m))


KIND = Kind("near_plane", "Set the near clip", "track", NearPlane, apply, lambda p: f"{p.near_m:g} m")
