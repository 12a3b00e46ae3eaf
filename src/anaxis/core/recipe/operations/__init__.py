"""The operations a recipe can hold, a file for each subject. To add one, write it there and name it in the list below."""

from __future__ import annotations

from typing import Any

from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Kind
from anaxis.core.recipe.operations import baking, distortion, frames, geometry, landmarks, lens, placing, tree

# In the order that lists show them.
_ALL = (
    tree.CORRECT,
    lens.LENS_FACTOR,
    lens.FILM_BACK,
    tree.DROP_SCALE,
    tree.INHERIT,
    tree.LEVEL,
    tree.PLACE_AT,
    tree.ATTACH,
    tree.AIM,
    baking.BAKE,
    frames.TRIM,
    frames.FILL_GAPS,
    frames.BRIDGE,
    placing.LEVEL_HORIZON,
    lens.FOCAL,
    lens.LENS_CURVE,
    lens.LENS_TABLE,
    lens.FOCUS_ON,
    lens.PART,
    distortion.DISTORTION,
    distortion.DISTORTION_OFF,
    lens.NEAR_PLANE,
    placing.SHIFT,
    placing.PLACE,
    frames.RATE,
    frames.HANDLES,
    frames.CUT,
    frames.RENUMBER,
    lens.KEEP_LENS,
    landmarks.MARKS_ADD,
    landmarks.MARK_RENAME,
    landmarks.MARKS_HIDE,
    geometry.SET_ADD,
    geometry.SET_OBJECTS,
)
KINDS: dict[str, Kind[Any]] = {kind.code: kind for kind in _ALL}


def kind_of(code: str) -> Kind[Any]:
    """The registered kind of an operation; raises BadInput for one that is not known."""
    if code not in KINDS:
        raise BadInput(f"'{code}' is not an operation: choose one of {', '.join(KINDS)}.")
    return KINDS[code]
