"""The operations a recipe can hold, one file each. To add one, write its file and name it in the list below."""

from __future__ import annotations

from typing import Any

from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Kind
from anaxis.core.recipe.operations import (
    aim,
    attach,
    bake,
    bridge,
    correct,
    cut,
    distortion,
    distortion_off,
    drop_scale,
    fill_gaps,
    film_back,
    focal,
    handles,
    inherit,
    keep_lens,
    lens_curve,
    lens_factor,
    level,
    level_horizon,
    mark_rename,
    marks_add,
    marks_hide,
    near_plane,
    part,
    place,
    place_at,
    rate,
    renumber,
    set_add,
    shift,
    trim,
)

# In the order that lists show them.
_ALL = (
    correct,
    lens_factor,
    film_back,
    drop_scale,
    inherit,
    level,
    place_at,
    attach,
    aim,
    bake,
    trim,
    fill_gaps,
    bridge,
    level_horizon,
    focal,
    lens_curve,
    part,
    distortion,
    distortion_off,
    near_plane,
    shift,
    place,
    rate,
    handles,
    cut,
    renumber,
    keep_lens,
    marks_add,
    mark_rename,
    marks_hide,
    set_add,
)
KINDS: dict[str, Kind[Any]] = {m.KIND.code: m.KIND for m in _ALL}


def kind_of(code: str) -> Kind[Any]:
    """The registered kind of an operation; raises BadInput for one that is not known."""
    if code not in KINDS:
        raise BadInput(f"'{code}' is no operation: there are {', '.join(KINDS)}.")
    return KINDS[code]
