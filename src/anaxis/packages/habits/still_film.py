"""The film back read once, on the first frame."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import used_rectangle
from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class StillFilm(Parameters):
    pass


def arrive(a: Arriving, p: StillFilm, convention: Convention) -> Arriving:
    lens, n = a.track.lens, len(a.track)
    held = ("film_width_mm", "film_height_mm", "squeeze")
    return a.with_lens(**{k: np.full(n, getattr(lens, k)[0]) for k in held})


def undo(s: Outbound, p: StillFilm) -> Outbound:
    """The same picture on the first frame's film back: focal length and offsets go along."""
    lens, n = s.track.lens, len(s.track)
    ours = lens.used(s.image, s.fit)
    first = [np.full(n, v[0]) for v in (lens.film_width_mm, lens.film_height_mm, lens.squeeze)]
    theirs = used_rectangle(first[0], first[1], first[2], s.image, s.fit)
    ratio = theirs.width_mm / ours.width_mm
    if np.ptp(ratio) == 0 and ratio[0] == 1:
        return s
    if not np.allclose(theirs.height_mm / ours.height_mm, ratio, rtol=1e-6):
        return s.but(
            "The package reads the film back once, and here its proportions change over the frames: join with a common film back, "
            "or set one on Lens."
        )
    return s.with_lens(
        focal_mm=lens.focal_mm * ratio, offset_x_mm=lens.offset_x_mm * ratio, offset_y_mm=lens.offset_y_mm * ratio,
        film_width_mm=first[0], film_height_mm=first[1], squeeze=first[2],
    )  # fmt: skip


HABIT = HabitKind(
    "still_film",
    "Film back read once",
    StillFilm,
    arrive,
    undo,
    lambda p: "reads the film back on the first frame only",
    1.15,
)
