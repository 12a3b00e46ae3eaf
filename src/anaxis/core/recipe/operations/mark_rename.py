"""A landmark under another name."""

from __future__ import annotations

from dataclasses import replace

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene.landmarks import MAX_NAME


class MarkRename(Parameters):
    name: str = asked("Name")
    to: str = asked("New name")


def apply(work: Work, p: MarkRename) -> Work:
    marks = work.landmarks
    at = marks.index(p.name)
    new = p.to.strip()[:MAX_NAME]
    if not new or new in marks.names:
        raise BadInput(f"'{new}' cannot be a landmark's name: it is empty or taken.")
    names = (*marks.names[:at], new, *marks.names[at + 1 :])
    hidden = frozenset(new if n == p.name else n for n in marks.hidden)
    return replace(work, landmarks=replace(marks, names=names, hidden=hidden))


KIND = Kind(
    "mark_rename",
    "Rename a landmark",
    "track",
    MarkRename,
    apply,
    lambda p: f"{p.name} is now {p.to}",
    station="place",
    by_hand=False,
    moves_camera=False,
)
