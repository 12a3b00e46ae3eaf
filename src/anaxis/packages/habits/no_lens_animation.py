"""The lens held as on the first frame."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.channels import CHANNELS, FRAMING
from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame
from anaxis.packages.habit import Arriving, HabitKind, Outbound

STILL = 1e-9


class NoLensAnimation(Parameters):
    pass


def lens_moves(s: Outbound) -> bool:
    return any(np.ptp(getattr(s.track.lens, k)) > STILL for k in FRAMING)


def arrive(a: Arriving, p: NoLensAnimation, convention: Convention) -> Arriving:
    return a.with_lens(**{k: np.full(len(a.track), getattr(a.track.lens, k)[0]) for k in CHANNELS})


def undo(s: Outbound, p: NoLensAnimation) -> Outbound:
    if not lens_moves(s):
        return s
    focal = s.track.lens.focal_mm
    return s.but(
        f"The package drops the lens animation: key the focal length there, {focal[0]:.4f} mm at frame "
        f"{format_frame(s.intended[0])} to {focal[-1]:.4f} mm at frame {format_frame(s.intended[-1])} (all frames: 'anaxis values')."
    )


HABIT = HabitKind(
    "no_lens_animation",
    "Drops lens animation",
    NoLensAnimation,
    arrive,
    undo,
    lambda p: "keeps the lens of the first frame throughout",
    1.1,
)
