"""The roll taken out, the look kept."""

from __future__ import annotations

from anaxis.core.motion.edits import levelled
from anaxis.core.parameters import Parameters
from anaxis.core.recipe.model import Kind, Work


class LevelHorizon(Parameters):
    pass


def apply(work: Work, p: LevelHorizon) -> Work:
    return work.with_track(levelled(work.done))


KIND = Kind(
    "level_horizon", "Level the horizon", "track", LevelHorizon, apply, lambda p: "the roll goes, the look stays"
)
