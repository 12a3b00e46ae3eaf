"""The film back set to a size, keeping the focal length or the field of view."""

from __future__ import annotations

from typing import Literal

import numpy as np

from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.node_lens import with_lens
from anaxis.core.typing import Floats

Keep = Literal["focal length", "field of view"]
# From a phone's sensor to a sheet of film, with room for mistakes in a unit.
_FILM_MM = (0.01, 100_000.0)


class FilmBack(Parameters):
    width_mm: Number = asked("Width", "mm")
    height_mm: Number = asked("Height", "mm")
    keep: Keep | None = asked("Keep the", default=None)


def apply(work: Work, p: FilmBack) -> Work:
    sides = (p.width_mm, p.height_mm)
    if not (_FILM_MM[0] <= min(sides) and max(sides) <= _FILM_MM[1]):
        raise BadInput(
            f"A film back needs a width and a height above zero, from {_FILM_MM[0]:g} to {_FILM_MM[1]:g} mm, not "
            f"{p.width_mm:g} x {p.height_mm:g} mm."
        )
    # A file that holds a field of view and no film back: the view is what is known of its lens.
    only_view = f"lens:{work.path}" in work.scene.guesses
    keep: Keep = p.keep or ("field of view" if only_view else "focal length")

    def sizes(lens: Lens) -> dict[str, Floats]:
        ratio = np.ones_like(lens.focal_mm)
        if keep == "field of view":
            by_height = work.scene.source_fit == "height"
            ratio = p.height_mm / lens.film_height_mm if by_height else p.width_mm / lens.film_width_mm
        return {
            "focal_mm": lens.focal_mm * ratio,
            "film_width_mm": np.full_like(lens.focal_mm, p.width_mm),
            "film_height_mm": np.full_like(lens.focal_mm, p.height_mm),
        }

    return with_lens(work, sizes)


KIND = Kind(
    "film_back", "Set the film back", "tree", FilmBack, apply, lambda p: f"{p.width_mm:.3f} × {p.height_mm:.3f} mm"
)
