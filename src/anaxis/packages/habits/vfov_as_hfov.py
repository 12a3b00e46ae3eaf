"""The horizontal field of view becomes what the vertical one was."""

from __future__ import annotations

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class VerticalAsHorizontal(Parameters):
    pass


def arrive(a: Arriving, p: VerticalAsHorizontal, convention: Convention) -> Arriving:
    lens = a.track.lens
    used = lens.used(a.image, a.fit)
    return a.with_lens(focal_mm=lens.focal_mm * used.width_mm / used.height_mm)


def undo(s: Outbound, p: VerticalAsHorizontal) -> Outbound:
    lens = s.track.lens
    used = lens.used(s.image, s.fit)
    return s.with_lens(focal_mm=lens.focal_mm * used.height_mm / used.width_mm)


HABIT = HabitKind(
    "vfov_as_hfov",
    "Vertical field of view read as horizontal",
    VerticalAsHorizontal,
    arrive,
    undo,
    lambda p: "takes the vertical field of view for the horizontal one",
)
