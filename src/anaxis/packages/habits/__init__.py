"""The habits a package can have, a file for each subject. To add one, write it there and name it in the list below."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from anaxis.core.errors import BadInput
from anaxis.core.space.axes import Convention
from anaxis.packages.habit import Arriving, HabitKind, Outbound
from anaxis.packages.habits import frames, lens, numbers, tree, world

# In the order that lists show them.
_ALL = (
    world.UP_AXIS,
    world.UNIT,
    world.WORLD_TURN,
    world.WORLD_SHIFT,
    world.LOOK_AXIS,
    world.MIRROR,
    world.SCALE,
    tree.PARENTS,
    tree.TWICE,
    frames.FRAME_OFFSET,
    frames.OWN_RATE,
    frames.OWN_FIRST,
    frames.NO_NEGATIVE,
    frames.ONLY_FIRST,
    frames.FIRST_KEYS,
    lens.FILM_FACTOR,
    lens.FILM_DEFAULT,
    lens.STILL_FILM,
    lens.FOCAL_FACTOR,
    lens.VFOV_AS_HFOV,
    lens.NO_LENS_ANIMATION,
    lens.NO_OFFSETS,
    numbers.CHANNELS,
    numbers.ROTATION_ORDER,
    numbers.SNAP,
    numbers.NO_ROLL,
)
HABITS: dict[str, HabitKind[Any]] = {habit.code: habit for habit in _ALL}
Habits = list[tuple[str, dict[str, Any]]]


def checked_habit(code: str, params: dict[str, Any]) -> dict[str, Any]:
    """The parameters as a habit takes them, every one of them; raises BadInput naming the one that is wrong."""
    if code not in HABITS:
        raise BadInput(f"'{code}' is not a habit: choose one of {', '.join(HABITS)}.")
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
            note = f"The package {HABITS[code].says(params)}. The file compensates for this."
            outbound = replace(outbound, notes=(*outbound.notes, note))
    return outbound
