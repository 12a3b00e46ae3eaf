"""A lens that is a factor too large or too small: a unit mistaken on export."""

from __future__ import annotations

from typing import Literal

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Number, Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.node_lens import with_lens

_SCALED = {
    "lens": ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"),
    "film back": ("film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"),
    "focal length": ("focal_mm",),
}


class LensFactor(Parameters):
    what: Literal["lens", "film back", "focal length"] = asked("What")
    factor: Number = asked("Times")


def apply(work: Work, p: LensFactor) -> Work:
    if p.factor <= 0:
        raise BadInput(f"A factor of {p.factor:g} cannot be: it must be above zero.")
    return with_lens(work, lambda lens: {k: getattr(lens, k) * p.factor for k in _SCALED[p.what]})


KIND = Kind("lens_factor", "Scale the lens", "tree", LensFactor, apply, lambda p: f"{p.what} × {p.factor:g}")
