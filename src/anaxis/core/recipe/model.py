"""What a recipe is made of: an operation as plain data, what it works on, and what is known of each kind of operation.

An operation is plain data (code, parameters, on or off). What it does is a :class:`Kind`, one file each in
:mod:`anaxis.core.recipe.operations`, with its parameters as a pydantic model: they are checked by it, a form asks for
them by it, and their JSON Schema is its own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Generic, Literal

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity
from anaxis.core.motion.set_objects import ObjectChoice, PlacedSet, SetAlong, set_along
from anaxis.core.parameters import Field, P, fields_of, read
from anaxis.core.scene.bake import Baked
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene.nodes import Scene
from anaxis.core.typing import Floats, Ints

Stage = Literal["tree", "bake", "track"]
STAGES: tuple[Stage, ...] = ("tree", "bake", "track")


@dataclass(frozen=True)
class Operation:
    """One step of a recipe. ``params`` is plain JSON."""

    code: str
    params: dict[str, Any] = field(default_factory=dict)
    on: bool = True

    def as_dict(self) -> dict[str, Any]:
        return {"code": self.code, "params": self.params, "on": self.on}


Recipe = tuple[Operation, ...]


def no_sets(sha256: str) -> Scene:
    raise BadInput("The set geometry of the recipe is missing: take in the file again.")


@dataclass(frozen=True, eq=False)
class Work:
    """What a recipe works on: the node tree first, then the track baked from it.

    ``sets`` finds the set of another file by its SHA-256. ``lines_m`` (s, 2, 3), ``triangles_m`` (t, 3, 3) and
    ``landmarks`` are canonical, ``around`` the sets with their faces, which may move, and ``choices`` what is to happen to their
    objects; ``kept`` (n,) are the places of the track's frames among those baked.
    """

    scene: Scene
    path: str
    frames: Floats
    sets: Callable[[str], Scene]
    baked: Baked | None = None
    track: Track | None = None
    kept: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    landmarks: Landmarks = NO_LANDMARKS
    lines_m: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))
    triangles_m: Floats = field(default_factory=lambda: np.zeros((0, 3, 3)))
    around: tuple[PlacedSet, ...] = ()
    choices: tuple[ObjectChoice, ...] = ()

    @property
    def set_along(self) -> SetAlong:
        """The objects of the sets that go along, as they were chosen to."""
        return set_along(self.around, self.choices)

    @property
    def done(self) -> Track:
        assert self.track is not None
        return self.track

    def with_track(self, track: Track) -> Work:
        return replace(self, track=track)

    def on_samples(self, track: Track, index: Ints) -> Work:
        """With a track whose samples are those at ``index`` (n,) of the one before, and all that stands round it on them."""
        around = tuple(s._replace(frames=s.frames[index]) for s in self.around)
        return replace(
            self, track=track, kept=self.kept[index], landmarks=self.landmarks.at_frames(index), around=around
        )

    def placed(self, placement: Similarity) -> Work:
        """The camera with its landmarks and set placed."""
        lines, triangles = (placement.points(m) if len(m) else m for m in (self.lines_m, self.triangles_m))
        around = tuple(s._replace(placement=s.placement.then(placement)) for s in self.around)
        return replace(
            self, track=placement.track(self.done), landmarks=placement.landmarks(self.landmarks), lines_m=lines, triangles_m=triangles,
            around=around,
        )  # fmt: skip


# Kinds of operation


@dataclass(frozen=True)
class Kind(Generic[P]):
    """A kind of operation: ``apply`` does it, ``words`` says it as a TD would write it in a ticket.

    What else must be known of it: ``station``, where its panel is; ``by_hand``, whether it is offered to be added on
    Clean; ``about_parents``, whether its node is one that moves the camera; ``for_file``, whether on intake it holds
    for every camera of the file; ``once``, whether a later one takes the place of an earlier; ``moves_camera`` and
    ``moves_time``, whether the camera's poses or their frames change; ``picture``, the picture before and after it
    where it changes that; ``placement``, where it places the whole track; ``set_of``, the file whose set it adds.
    """

    code: str
    label: str
    stage: Stage
    params: type[P]
    apply: Callable[[Work, P], Work]
    words: Callable[[P], str]
    station: str = "clean"
    by_hand: bool = True
    about_parents: bool = False
    for_file: bool = False
    once: bool = False
    moves_camera: bool = True
    moves_time: bool = False
    picture: Callable[[P], tuple[Image, Image]] | None = None
    placement: Callable[[P], Similarity] | None = None
    set_of: Callable[[P], str] | None = None

    @cached_property
    def fields(self) -> tuple[Field, ...]:
        return fields_of(self.params)

    def read(self, given: dict[str, Any]) -> P:
        """The parameters, checked; raises BadInput that names the one at fault."""
        return read(self.params, given)

    def operation(self, given: dict[str, Any]) -> Operation:
        """The operation with parameters as they were typed. Raises BadInput."""
        return Operation(self.code, self.read(given).model_dump(exclude_unset=True))

    def says(self, given: dict[str, Any]) -> str:
        """The operation in a few words; "" where its parameters make no sense."""
        try:
            return self.words(self.read(given))
        except (BadInput, TypeError, ValueError, KeyError, AttributeError):
            return ""
