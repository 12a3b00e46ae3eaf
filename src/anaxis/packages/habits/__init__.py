"""The habits a package can have, one file each. To add one, write its file and name it in the list below."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from anaxis.core.errors import BadInput
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound
from anaxis.packages.habits import (
    channels,
    film_default,
    film_factor,
    first_keys,
    focal_factor,
    frame_offset,
    look_axis,
    mirror,
    no_lens_animation,
    no_negative,
    no_offsets,
    no_roll,
    only_first,
    own_first,
    own_rate,
    parents,
    rotation_order,
    scale,
    snap,
    still_film,
    twice,
    unit,
    up_axis,
    vfov_as_hfov,
    world_shift,
    world_turn,
)

# In the order that lists show them.
_ALL = (
    up_axis,
    unit,
    world_turn,
    world_shift,
    look_axis,
    mirror,
    scale,
    parents,
    twice,
    frame_offset,
    own_rate,
    own_first,
    no_negative,
    only_first,
    first_keys,
    film_factor,
    film_default,
    still_film,
    focal_factor,
    vfov_as_hfov,
    no_lens_animation,
    no_offsets,
    channels,
    rotation_order,
    snap,
    no_roll,
)
HABITS: dict[str, HabitKind[Any]] = {m.HABIT.code: m.HABIT for m in _ALL}
Habits = list[tuple[str, dict[str, Any]]]


def checked_habit(code: str, params: dict[str, Any]) -> dict[str, Any]:
    """The parameters as a habit takes them, every one of them; raises BadInput naming the one that is wrong."""
    if code not in HABITS:
        raise BadInput(f"'{code}' is no habit: there are {', '.join(HABITS)}.")
    return HABITS[code].read(params).model_dump()


def in_order(habits: Habits) -> Habits:
    """Habits as they happen: those about the file's tree while it is read, then the others as listed."""
    return sorted(habits, key=lambda h: not HABITS[h[0]].on_tree)


def arrived(arriving: Arriving, habits: Habits, convention: Convention) -> Arriving:
    """The camera after all habits, in their order; what is done while the file is read comes first."""
    for code, params in in_order(habits):
        arriving = HABITS[code].arrive(arriving, params, convention)
    return arriving


def compensated(outbound: Outbound, habits: Habits) -> Outbound:
    """The camera to write for a package with these habits: each that can be undone is undone, the last one first."""
    for code, params in reversed(in_order(habits)):
        before = outbound
        outbound = HABITS[code].undo(outbound, params)
        if outbound.track is not before.track:
            note = f"The package {HABITS[code].says(params)}: the file makes up for it."
            outbound = replace(outbound, notes=(*outbound.notes, note))
    return outbound
