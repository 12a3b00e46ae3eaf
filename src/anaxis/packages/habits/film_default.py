"""The film back left at the package's own."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import used_rectangle
from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FilmDefault(Parameters):
    width_mm: Positive = asked("Width", "mm", default=36.0)
    height_mm: Positive = asked("Height", "mm", default=24.0)


def arrive(a: Arriving, p: FilmDefault, convention: Convention) -> Arriving:
    n = len(a.track)
    return a.with_lens(film_width_mm=np.full(n, p.width_mm), film_height_mm=np.full(n, p.height_mm), squeeze=np.ones(n))


def undo(s: Outbound, p: FilmDefault) -> Outbound:
    """The field of view of the default film back made right by the focal length; offsets go along."""
    lens, n = s.track.lens, len(s.track)
    ours = lens.used(s.image, s.fit)
    theirs = used_rectangle(np.full(n, p.width_mm), np.full(n, p.height_mm), 1.0, s.image, s.fit)
    ratio = theirs.width_mm / ours.width_mm
    if not np.allclose(theirs.height_mm / ours.height_mm, ratio, rtol=1e-6):
        return s.but(
            f"The package leaves its film back at {p.width_mm:g} x {p.height_mm:g} mm, whose picture has other proportions: "
            f"type {lens.film_width_mm[0]:.4f} x {lens.film_height_mm[0]:.4f} mm there."
        )
    return s.with_lens(
        focal_mm=lens.focal_mm * ratio,
        film_width_mm=np.full(n, p.width_mm),
        film_height_mm=np.full(n, p.height_mm),
        offset_x_mm=lens.offset_x_mm * ratio,
        offset_y_mm=lens.offset_y_mm * ratio,
        squeeze=np.ones(n),
    )


HABIT = HabitKind(
    "film_default",
    "Film back left at its default",
    FilmDefault,
    arrive,
    undo,
    lambda p: f"leaves the film back at {number(p.width_mm)} x {number(p.height_mm)} mm",
    1.1,
)
