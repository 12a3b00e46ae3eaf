"""Parameters of operations and of habits: pydantic models that are checked, asked for by forms, and described by their schema."""

from __future__ import annotations

from types import NoneType
from typing import Annotated, Any, Literal, NamedTuple, TypeVar, get_args, get_origin

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator
from pydantic import Field as ModelField

from anaxis.core.bounds import MAX_NUMBER
from anaxis.core.errors import BadInput

Number = Annotated[float, ModelField(allow_inf_nan=False, ge=-MAX_NUMBER, le=MAX_NUMBER)]
Positive = Annotated[float, ModelField(allow_inf_nan=False, gt=0, le=MAX_NUMBER)]
NodePath = Annotated[str, "a node's path"]
Made = Annotated[str, "not typed"]


class Parameters(BaseModel):
    """Parameters by name. Unknown names are refused; an entry left empty in a form is one left out."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    @model_validator(mode="before")
    @classmethod
    def _left_out(cls, given: Any) -> Any:
        if not isinstance(given, dict):
            return given
        return {k: v for k, v in given.items() if v is not None and v != ""}


P = TypeVar("P", bound=Parameters)


def parameter(label: str, unit: str = "", default: Any = ...) -> Any:
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
    default: Any


def fields_of(parameters: type[Parameters]) -> tuple[Field, ...]:
    return tuple(_field(parameters, name) for name in parameters.model_fields)


def _field(parameters: type[Parameters], name: str) -> Field:
    info = parameters.model_fields[name]
    held, marks = info.annotation, info.metadata
    options = [a for a in get_args(held) if a is not NoneType] if NoneType in get_args(held) else [held]
    held = options[0]
    if get_origin(held) is Annotated:
        held, *marks = get_args(held)
    choices = tuple(get_args(held)) if get_origin(held) is Literal else ()
    plain: Any = get_origin(held) or held
    kind = (
        "choice" if choices else "number" if plain is float
        else "data" if plain in (dict, list) or "not typed" in marks
        else "node" if "a node's path" in marks else "text"
    )  # fmt: skip
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    return Field(
        name, info.title or name, kind, str(extra.get("unit", "")), choices, not info.is_required(),
        {list: list, dict: dict}.get(plain, str), None if info.is_required() else info.default,
    )  # fmt: skip


def read(parameters: type[P], given: Any, of: str = "") -> P:
    """The parameters, checked; raises BadInput that names the one at fault, and ``of`` what it is one."""
    try:
        return parameters.model_validate(given)
    except ValidationError as error:
        raise BadInput(_fault(fields_of(parameters), error.errors()[0], of), "bad_parameter") from error


def _fault(fields: tuple[Field, ...], fault: Any, of: str) -> str:
    told = fault.get("ctx", {}).get("error")
    if isinstance(told, BadInput):  # a check of ours says itself what is wrong
        return told.sentence
    name = str(fault["loc"][0]) if fault["loc"] else ""
    found = next((f for f in fields if f.name == name), None)
    whose = f" of {of}" if of else ""
    if found is None:
        return f"{of or 'It'} has no parameter '{name}': choose one of {', '.join(f.name for f in fields) or 'none'}."
    if fault["type"] == "missing":
        return f"'{found.label}'{whose} is missing: fill it in."
    if fault["type"] in ("greater_than", "greater_than_equal", "less_than_equal"):
        return f"'{fault['input']}' cannot be '{found.label}'{whose}: it {fault['msg'].removeprefix('Input ')}."
    if found.kind == "number":
        return f"'{fault['input']}' is not a number for '{found.label}'{whose}."
    if found.kind == "choice":
        return (
            f"'{fault['input']}' is not a choice for '{found.label}'{whose}: choose one of {', '.join(found.choices)}."
        )
    return f"'{found.label}'{whose or ' of this operation'} has an invalid value: remove it."
