"""The film back off by a factor."""

from __future__ import annotations

from anaxis.core.parameters import Parameters, Positive, asked
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FilmFactor(Parameters):
    factor: Positive = asked("Factor", default=1.0)


def arrive(a: Arriving, p: FilmFactor, convention: Convention) -> Arriving:
    lens = a.track.lens
    return a.with_lens(film_width_mm=lens.film_width_mm * p.factor, film_height_mm=lens.film_height_mm * p.factor)


def undo(s: Outbound, p: FilmFactor) -> Outbound:
    lens = s.track.lens
    return s.with_lens(film_width_mm=lens.film_width_mm / p.factor, film_height_mm=lens.film_height_mm / p.factor)


HABIT = HabitKind(
    "film_factor",
    "Film back by a factor",
    FilmFactor,
    arrive,
    undo,
    lambda p: f"makes the film back {number(p.factor)} times as large",
)
