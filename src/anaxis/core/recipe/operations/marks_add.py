"""Landmarks typed or pasted; one of the same name takes the other's place."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.parameters import Parameters, asked
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene.landmarks import MAX_NAME, Landmarks, joined


class MarksAdd(Parameters):
    marks: list[Any] = asked("Landmarks")


def apply(work: Work, p: MarksAdd) -> Work:
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
    old = work.landmarks.take(np.array(kept, dtype=np.int64))
    added = Landmarks(tuple(names), np.array(places).reshape(1, -1, 3))
    return replace(work, landmarks=joined([old, added], len(work.done)))


def words(p: MarksAdd) -> str:
    return ", ".join(str(m.get("name")) for m in p.marks[:4]) + (" and more" if len(p.marks) > 4 else "")


KIND = Kind(
    "marks_add", "Add landmarks", "track", MarksAdd, apply, words, station="place", by_hand=False, moves_camera=False
)
