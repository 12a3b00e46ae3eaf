"""Samples between frames moved to whole frames."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class Snap(Parameters):
    pass


def arrive(a: Arriving, p: Snap, convention: Convention) -> Arriving:
    frames, first = np.unique(np.round(a.track.frames), return_index=True)
    return a.kept(np.isin(np.arange(len(a.track)), first)).on_frames(frames)


def undo(s: Outbound, p: Snap) -> Outbound:
    if (s.track.frames == np.round(s.track.frames)).all():
        return s
    return s.but("The package moves samples between frames to whole frames: bake the camera on whole frames for it.")


HABIT = HabitKind(
    "snap", "Snaps sub-frames", Snap, arrive, undo, lambda p: "moves samples between frames to whole frames", 1.4
)
