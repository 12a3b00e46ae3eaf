"""The track cut down to a frame range."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.parameters import Number, Parameters
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.spans import FIRST, LAST, ends, span_words


class Trim(Parameters):
    first: Number | None = FIRST
    last: Number | None = LAST


def apply(work: Work, p: Trim) -> Work:
    track = work.done.between(*ends(p.first, p.last))
    keep = np.flatnonzero(np.isin(work.done.frames, track.frames))
    return replace(work, track=track, kept=work.kept[keep], landmarks=work.landmarks.at_frames(keep))


KIND = Kind("trim", "Trim", "track", Trim, apply, lambda p: span_words(p.first, p.last))
