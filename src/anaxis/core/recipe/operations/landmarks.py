"""Landmarks added, renamed, hidden and shown."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene.landmarks import MAX_NAME, Landmarks, joined


class MarksAdd(Parameters):
    """Landmarks typed or pasted; one of the same name takes the other's place."""

    marks: list[Any] = parameter("Landmarks")


def _marks_add(work: Work, p: MarksAdd) -> Work:
    names, places = [], []
    for entry in p.marks:
        try:
            name = str(entry["name"]).strip()[:MAX_NAME]
            place = np.array(entry["position_m"], dtype=np.float64)
            if not name or place.shape != (3,) or not np.isfinite(place).all():
                raise ValueError
        except (KeyError, TypeError, ValueError) as error:
            raise BadInput(f"The landmark {entry!r} needs a name and three numbers.") from error
        names.append(name)
        places.append(place)
    kept = [i for i, n in enumerate(work.landmarks.names) if n not in names]
    # One of the same name takes the other's place: that is how a typed position is corrected.
    old = work.landmarks.select(np.array(kept, dtype=np.int64))
    added = Landmarks(tuple(names), np.array(places).reshape(1, -1, 3))
    return replace(work, landmarks=joined([old, added], len(work.done)))


def _marks_add_words(p: MarksAdd) -> str:
    return ", ".join(str(m.get("name")) for m in p.marks[:4]) + (" and more" if len(p.marks) > 4 else "")


MARKS_ADD = Kind(
    "marks_add",
    "Add landmarks",
    "track",
    MarksAdd,
    _marks_add,
    _marks_add_words,
    station="place",
    by_hand=False,
    moves_camera=False,
)


class MarkRename(Parameters):
    """A landmark under another name."""

    name: str = parameter("Name")
    to: str = parameter("New name")


def _mark_rename(work: Work, p: MarkRename) -> Work:
    marks = work.landmarks
    at = marks.index(p.name)
    new = p.to.strip()[:MAX_NAME]
    if not new or new in marks.names:
        raise BadInput(f"'{new}' is not a possible landmark name: it is empty or already used.")
    names = (*marks.names[:at], new, *marks.names[at + 1 :])
    hidden = frozenset(new if n == p.name else n for n in marks.hidden)
    return replace(work, landmarks=replace(marks, names=names, hidden=hidden))


MARK_RENAME = Kind(
    "mark_rename",
    "Rename a landmark",
    "track",
    MarkRename,
    _mark_rename,
    lambda p: f"{p.name} is now {p.to}",
    station="place",
    by_hand=False,
    moves_camera=False,
)


class MarksHide(Parameters):
    """Landmarks left out of what is drawn, proved and delivered, or shown again."""

    names: list[Any] = parameter("Names")
    way: Literal["hide", "show"] = parameter("Way")


def _marks_hide(work: Work, p: MarksHide) -> Work:
    hidden = set(work.landmarks.hidden)
    for name in p.names:
        work.landmarks.index(name)
        (hidden.discard if p.way == "show" else hidden.add)(name)
    return replace(work, landmarks=replace(work.landmarks, hidden=frozenset(hidden)))


def _marks_hide_words(p: MarksHide) -> str:
    return f"{p.way} {', '.join(p.names[:4])}" + (" and more" if len(p.names) > 4 else "")


MARKS_HIDE = Kind(
    "marks_hide",
    "Hide or show landmarks",
    "track",
    MarksHide,
    _marks_hide,
    _marks_hide_words,
    station="place",
    by_hand=False,
    moves_camera=False,
)
