"""Samples that are no numbers, drawn from their neighbours."""

from __future__ import annotations

from anaxis.core.motion.edits import without_gaps
from anaxis.core.parameters import Parameters
from anaxis.core.recipe.model import Kind, Work


class FillGaps(Parameters):
    pass


def apply(work: Work, p: FillGaps) -> Work:
    return work.with_track(without_gaps(work.done))


KIND = Kind(
    "fill_gaps", "Fill gaps", "track", FillGaps, apply, lambda p: "samples that are no numbers, from their neighbours"
)
