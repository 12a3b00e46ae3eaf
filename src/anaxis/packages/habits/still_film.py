"""The film back read once, on the first frame."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.film_back import on_film_back
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class StillFilm(Parameters):
    pass


def arrive(a: Arriving, p: StillFilm, convention: Convention) -> Arriving:
    lens, n = a.track.lens, len(a.track)
    held = ("film_width_mm", "film_height_mm", "squeeze")
    return a.with_lens(**{k: np.full(n, getattr(lens, k)[0]) for k in held})


def undo(s: Outbound, p: StillFilm) -> Outbound:
    """The same picture on the first frame's film back."""
    lens, n = s.track.lens, len(s.track)
    first = [np.full(n, v[0]) for v in (lens.film_width_mm, lens.film_height_mm, lens.squeeze)]
    return on_film_back(s, *first) or s.but(
        "The package reads the film back once, and here its proportions change over the frames: join with a common film back, "
        "or set one on Lens."
    )


HABIT = HabitKind(
    "still_film",
    "Film back read once",
    StillFilm,
    arrive,
    undo,
    lambda p: "reads the film back on the first frame only",
    1.15,
)
