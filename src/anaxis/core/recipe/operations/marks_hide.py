"""Landmarks left out of what is drawn, proved and delivered, or shown again."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

from anaxis.core.parameters import Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class MarksHide(Parameters):
    names: list[Any] = asked("Names")
    way: Literal["hide", "show"] = asked("Way")


def apply(work: Work, p: MarksHide) -> Work:
    hidden = set(work.landmarks.hidden)
    for name in p.names:
        work.landmarks.index(name)
        (hidden.discard if p.way == "show" else hidden.add)(name)
    return replace(work, landmarks=replace(work.landmarks, hidden=frozenset(hidden)))


def words(p: MarksHide) -> str:
    return f"{p.way} {', '.join(p.names[:4])}" + (" and more" if len(p.names) > 4 else "")


KIND = Kind(
    "marks_hide",
    "Hide or show landmarks",
    "track",
    MarksHide,
    apply,
    words,
    station="place",
    by_hand=False,
    moves_camera=False,
)
