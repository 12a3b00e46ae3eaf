"""What a recipe is made of: an operation as plain data, what it works on, and what is known of each kind of operation.

An operation is plain data (code, parameters, on or off). What it does is a :class:`Kind`, one file each in
:mod:`anaxis.core.recipe.operations`, with its parameters as a pydantic model: they are checked by it, a form asks for
them by it, and their JSON Schema is its own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from types import NoneType
from typing import Annotated, Any, Generic, Literal, NamedTuple, TypeVar, get_args, get_origin

import numpy as np
from pydantic import BaseModel, ConfigDict, ValidationError, model_validator
from pydantic import Field as ModelField

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity
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
    raise BadInput("The set geometry that the recipe adds is not at hand: take the file in again.")


@dataclass(frozen=True, eq=False)
class Work:
    """What a recipe works on: the node tree first, then the track baked from it.

    ``sets`` finds the set of another file by its SHA-256. ``lines_m`` (s, 2, 3) and ``landmarks`` are
    canonical; ``kept`` (n,) are the places of the track's frames among those baked.
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

    @property
    def done(self) -> Track:
        assert self.track is not None
        return self.track

    def with_track(self, track: Track) -> Work:
        return replace(self, track=track)


# Parameters

Number = Annotated[float, ModelField(allow_inf_nan=False)]
NodePath = Annotated[str, "a node's path"]
Made = Annotated[str, "nobody types it"]


class Params(BaseModel):
    """The parameters of an operation. Unknown names are refused; an entry left empty in a form is one left out."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    @model_validator(mode="before")
    @classmethod
    def _left_out(cls, given: dict[str, Any]) -> dict[str, Any]:
        return {k: v for k, v in given.items() if v is not None and v != ""}


P = TypeVar("P", bound=Params)


def asked(label: str, unit: str = "", default: Any = ...) -> Any:
    """A parameter as a form asks for it: its label, and the unit of its number."""
    return ModelField(default, title=label, json_schema_extra={"unit": unit} if unit else None)


class Field(NamedTuple):
    """A parameter, as a form needs to know it: ``kind`` is number, node, text, choice or data (which nobody types)."""

    name: str
    label: str
    kind: str
    unit: str
    choices: tuple[str, ...]
    optional: bool
    holds: type


def _field(params: type[Params], name: str) -> Field:
    info = params.model_fields[name]
    held, marks = info.annotation, info.metadata
    options = [a for a in get_args(held) if a is not NoneType] if NoneType in get_args(held) else [held]
    held = options[0]
    if get_origin(held) is Annotated:
        held, *marks = get_args(held)
    choices = tuple(get_args(held)) if get_origin(held) is Literal else ()
    plain: Any = get_origin(held) or held
    kind = (
        "choice" if choices else "number" if plain is float else "data" if plain in (dict, list) or "nobody types it" in marks
        else "node" if "a node's path" in marks else "text"
    )  # fmt: skip
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    return Field(
        name, info.title or name, kind, str(extra.get("unit", "")), choices, not info.is_required(),
        {list: list, dict: dict}.get(plain, str),
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
        return tuple(_field(self.params, name) for name in self.params.model_fields)

    def read(self, given: dict[str, Any]) -> P:
        """The parameters, checked; raises BadInput that names the one at fault."""
        try:
            return self.params.model_validate(given)
        except ValidationError as error:
            raise BadInput(self._fault(error.errors()[0])) from error

    def _fault(self, fault: Any) -> str:
        name = str(fault["loc"][0]) if fault["loc"] else ""
        asked_for = next((f for f in self.fields if f.name == name), None)
        if asked_for is None:
            return (
                f"It has no parameter '{name}': there are {', '.join(f.name for f in self.fields) or 'none'}."
            )
        if fault["type"] == "missing":
            return f"'{asked_for.label}' is missing: fill it in."
        if asked_for.kind == "number":
            return f"'{fault['input']}' is no number for '{asked_for.label}'."
        if asked_for.kind == "choice":
            return f"'{fault['input']}' is no choice for '{asked_for.label}': choose one of {', '.join(asked_for.choices)}."
        return f"'{asked_for.label}' of this operation holds something else than it must: take it out."

    def operation(self, given: dict[str, Any]) -> Operation:
        """The operation with parameters as they were typed. Raises BadInput."""
        return Operation(self.code, self.read(given).model_dump(exclude_unset=True))

    def says(self, given: dict[str, Any]) -> str:
        """The operation in a few words; "" where its parameters make no sense."""
        try:
            return self.words(self.read(given))
        except (BadInput, TypeError, ValueError, KeyError, AttributeError):
            return ""
