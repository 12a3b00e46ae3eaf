"""What a habit is: something a package does to a file on arrival that the file did not ask for.

Each is one file in :mod:`anaxis.packages.habits`: its parameters, what it does to a camera that arrives, how a delivery
makes up for it by arithmetic of its own, and its words.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Generic

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.parameters import Field, P, fields_of, read
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats

_DISTANCES = ("focus_m", "near_m", "far_m")


@dataclass(frozen=True, eq=False)
class Arriving:
    """A camera in transit into a package, in canonical space at the file's own samples.

    ``local`` (n, 4, 4) is its pose below all parents and ``top`` (n, 4, 4) the transform of the topmost node
    above it (its own where it has no parent), both canonical. ``file_up`` and ``file_unit_m`` are what the
    file says of its axes and unit; None for files that are in the package's own numbers.
    """

    track: Track
    image: Image
    fit: str
    local: Floats
    top: Floats
    file_up: str | None = None
    file_unit_m: float | None = None

    def moved(self, position_m: Floats, rotation: Floats) -> Arriving:
        return replace(self, track=replace(self.track, position_m=position_m, rotation=rotation))

    def rotated(self, by: Floats) -> Arriving:
        """The whole world rotated about the origin, by a canonical rotation (3, 3)."""
        return self.moved(self.track.position_m @ by.T, by @ self.track.rotation)

    def scaled(self, factor: float) -> Arriving:
        lens = {k: getattr(self.track.lens, k) * factor for k in _DISTANCES}
        return self.moved(self.track.position_m * factor, self.track.rotation).with_lens(**lens)

    def with_lens(self, **channels: Floats) -> Arriving:
        return replace(self, track=replace(self.track, lens=replace(self.track.lens, **channels)))

    def on_frames(self, frames: Floats) -> Arriving:
        return replace(self, track=replace(self.track, frames=frames))

    def kept(self, keep: Any) -> Arriving:
        """The samples for which ``keep`` (n,) holds; raises BadInput where there is none."""
        index = np.flatnonzero(keep)
        if not len(index):
            raise BadInput("With this habit, the package drops all frames.")
        return replace(self, track=self.track.select_frames(index), local=self.local[index], top=self.top[index])


@dataclass(frozen=True, eq=False)
class Outbound:
    """A camera about to be written, with the landmarks ``marks_m`` (k, m, 3) that go in its file: the package's
    convention, the axes of the file and what it says of them.

    ``intended`` (n,) are the frames on which the receiver is to see the samples; ``notes`` and ``cannot`` say
    what was done about each habit and what could not be.
    """

    track: Track
    intended: Floats
    convention: Convention
    axes: Convention
    image: Image
    fit: str
    file_up: str | None
    file_unit_m: float | None
    marks_m: Floats = field(default_factory=lambda: np.zeros((1, 0, 3)))
    notes: tuple[str, ...] = ()
    cannot: tuple[str, ...] = ()

    def moved(self, position_m: Floats, rotation: Floats) -> Outbound:
        return replace(self, track=replace(self.track, position_m=position_m, rotation=rotation))

    def rotated(self, by: Floats) -> Outbound:
        """The whole file rotated about the origin."""
        moved = self.moved(self.track.position_m @ by.T, by @ self.track.rotation)
        return replace(moved, marks_m=self.marks_m @ by.T)

    def scaled(self, factor: float) -> Outbound:
        if factor == 1.0:
            return self
        lens = {k: getattr(self.track.lens, k) * factor for k in _DISTANCES}
        made = self.moved(self.track.position_m * factor, self.track.rotation).with_lens(**lens)
        return replace(made, marks_m=self.marks_m * factor)

    def with_lens(self, **channels: Floats) -> Outbound:
        return replace(self, track=replace(self.track, lens=replace(self.track.lens, **channels)))

    def but(self, why: str) -> Outbound:
        """As it is, for nothing makes up for a habit: why, and what to do there."""
        return replace(self, cannot=(*self.cannot, why))


@dataclass(frozen=True)
class HabitKind(Generic[P]):
    """``does`` is what it does, ``undoes`` what makes up for it beforehand, ``words`` say it as a sentence about the
    package; rarer ones cost more. ``on_tree``: it works on the file's tree, while that is read. ``on_objects``: it does to
    all objects of a file what it does to a camera.
    """

    code: str
    label: str
    params: type[P]
    does: Callable[[Arriving, P, Convention], Arriving]
    undoes: Callable[[Outbound, P], Outbound]
    words: Callable[[P], str]
    cost: float = 1.0
    on_tree: bool = False
    on_objects: bool = False

    @cached_property
    def fields(self) -> tuple[Field, ...]:
        return fields_of(self.params)

    def read(self, given: dict[str, Any]) -> P:
        """The parameters, checked, what is left out at its usual value; raises BadInput naming the one at fault."""
        return read(self.params, given, f"the habit '{self.code}'")

    def arrive(self, arriving: Arriving, given: dict[str, Any], convention: Convention) -> Arriving:
        return self.does(arriving, self.read(given), convention)

    def undo(self, outbound: Outbound, given: dict[str, Any]) -> Outbound:
        return self.undoes(outbound, self.read(given))

    def says(self, given: dict[str, Any]) -> str:
        return self.words(self.read(given))


def number(value: float) -> str:
    return f"{value:.6g}"
