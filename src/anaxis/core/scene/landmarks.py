"""Landmarks: named reference points that travel with a camera, and the rule for names."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.names import spelled
from anaxis.core.typing import Floats, Ints

MAX_NAME = 120
# What moves by less, in metres, stands still.
_STILL_M = 1e-9


def _no_sizes() -> Floats:
    return np.zeros((0, 3))


@dataclass(frozen=True, eq=False)
class Landmarks:
    """Named reference points: ``position_m`` is (1, l, 3) where they stand still, else (n, l, 3).

    ``size_m`` (l, 3) is the extent of the bounds of a piece of the set, zero for a point; ``hidden``
    are the names that are kept and neither drawn, delivered nor counted in a proof.
    """

    names: tuple[str, ...]
    position_m: Floats
    size_m: Floats = field(default_factory=_no_sizes)
    hidden: frozenset[str] = frozenset()

    def __post_init__(self) -> None:
        if len(self.size_m) != len(self.names):
            object.__setattr__(self, "size_m", np.zeros((len(self.names), 3)))

    def __len__(self) -> int:
        return len(self.names)

    def select(self, index: Ints) -> Landmarks:
        """The landmarks at ``index`` (k,), in that order."""
        names = tuple(self.names[i] for i in index)
        return Landmarks(names, self.position_m[:, index], self.size_m[index], self.hidden & set(names))

    def shown(self) -> Landmarks:
        """Those that are not hidden."""
        if not self.hidden:
            return self
        return self.select(np.array([i for i, n in enumerate(self.names) if n not in self.hidden], dtype=np.int64))

    def at_frames(self, index: Ints) -> Landmarks:
        """The same landmarks where only the frames at ``index`` (k,) are kept."""
        return self if len(self.position_m) == 1 else replace(self, position_m=self.position_m[index])

    def moving(self) -> list[bool]:
        """Whether each moves over the frames, by more than a nanometre."""
        return (np.ptp(self.position_m, axis=0).max(axis=1, initial=0.0) > _STILL_M).tolist()

    def index(self, name: str) -> int:
        """Where a name stands; raises BadInput that lists some of the names."""
        if name not in self.names:
            raise BadInput(f"There is no landmark '{name}': choose one of {', '.join(self.names[:12]) or 'none'}.")
        return self.names.index(name)


NO_LANDMARKS = Landmarks((), np.zeros((1, 0, 3)))


def joined(parts: Iterable[Landmarks], frames: int) -> Landmarks:
    """Several sets of landmarks as one, names made unique; moving ones over ``frames`` frames."""
    listed = [p for p in parts if len(p)]
    if not listed:
        return NO_LANDMARKS
    count = frames if any(len(p.position_m) > 1 for p in listed) else 1
    taken = Names()
    names, hidden = [], set()
    for part in listed:
        for name in part.names:
            made = unique_name(name, taken)
            names.append(made)
            if name in part.hidden:
                hidden.add(made)
    position = np.concatenate([np.broadcast_to(p.position_m, (count, *p.position_m.shape[1:])) for p in listed], axis=1)
    return Landmarks(tuple(names), position, np.concatenate([p.size_m for p in listed]), frozenset(hidden))


class Names(set[str]):
    """Names taken, that remembers how far each was counted: thousands of the same name cost no more than others."""

    def __init__(self) -> None:
        super().__init__()
        self.counted: dict[str, int] = {}


def unique_name(name: str, taken: set[str]) -> str:
    """``name``, or with _2, _3... behind it where it is taken; adds it to ``taken``."""
    counted = taken.counted if isinstance(taken, Names) else {}
    unique, count = name, counted.get(name, 1)
    while unique in taken:
        count += 1
        unique = f"{name}_{count}"
    counted[name] = count
    taken.add(unique)
    return unique


LEGAL_NAME_RULE = "Letters, digits, _ . - stay. Letters of other scripts are transliterated. Anything else becomes _. A name already in use gets _2, _3 and so on."


NODE_NAME_RULE = "Letters, digits and _ stay. Letters of other scripts are transliterated. Anything else becomes _. A leading digit gets _ in front. A name already in use gets _2, _3 and so on."


def node_name(name: str, taken: set[str]) -> str:
    """What a node of a written file is called, by NODE_NAME_RULE; adds it to ``taken``."""
    plain = re.sub(r"[^A-Za-z0-9_]", "_", spelled(name.strip()))[: MAX_NAME - 6] or "camera"
    return unique_name("_" + plain if plain[0].isdigit() else plain, taken)


def legal_name(name: str, taken: set[str]) -> str:
    """A name that every package takes, by LEGAL_NAME_RULE; adds it to ``taken``."""
    plain = re.sub(r"[^A-Za-z0-9_.-]+", "_", spelled(name.strip())).strip("_")[: MAX_NAME - 6] or "camera"
    return unique_name(plain, taken)
