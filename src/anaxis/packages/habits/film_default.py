"""The film back left at the package's own."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.film_back import on_film_back
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FilmDefault(Parameters):
    width_mm: Positive = asked("Width", "mm", default=36.0)
    height_mm: Positive = asked("Height", "mm", default=24.0)


def arrive(a: Arriving, p: FilmDefault, convention: Convention) -> Arriving:
    n = len(a.track)
    return a.with_lens(film_width_mm=np.full(n, p.width_mm), film_height_mm=np.full(n, p.height_mm), squeeze=np.ones(n))


def undo(s: Outbound, p: FilmDefault) -> Outbound:
    """The field of view of the default film back made right by the focal length."""
    lens, n = s.track.lens, len(s.track)
    return on_film_back(s, np.full(n, p.width_mm), np.full(n, p.height_mm), np.ones(n)) or s.but(
        f"The package leaves its film back at {p.width_mm:g} x {p.height_mm:g} mm, whose picture has other proportions: "
        f"type {lens.film_width_mm[0]:.4f} x {lens.film_height_mm[0]:.4f} mm there."
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
