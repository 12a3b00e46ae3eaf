"""Forms of pages as models: a field that was left empty takes its default, and what is wrong is said at its field."""

from __future__ import annotations

from typing import Any

from fastapi.exceptions import RequestValidationError
from pydantic import BaseModel, ConfigDict, model_validator

from anaxis.core.errors import BadInput

_NUMBER = "'{typed}' is not a number: type one, or leave the field empty."
_WHOLE = "'{typed}' is not a whole number: type one."
_SENTENCES = {
    "float_parsing": _NUMBER,
    "float_type": _NUMBER,
    "finite_number": _NUMBER,
    "int_parsing": _WHOLE,
    "int_parsing_size": _WHOLE,
    "int_from_float": _WHOLE,
    "int_type": _WHOLE,
}


class PageForm(BaseModel):
    """What a form of a page sends."""

    model_config = ConfigDict(allow_inf_nan=False)

    @model_validator(mode="before")
    @classmethod
    def _without_empty_fields(cls, typed: Any) -> Any:
        return filled(typed) if isinstance(typed, dict) else typed


class StationForm(PageForm):
    """What a station of a camera's page sends: the version that it showed, and the package that the page is open for."""

    version: int
    to: str = ""


def filled(typed: dict[str, Any]) -> dict[str, Any]:
    """The fields that were not left empty."""
    return {k: v for k, v in typed.items() if not (isinstance(v, str) and not v.strip())}


def whole_days(days: float | None) -> int | None:
    """A number of days that somebody typed, within what the store can count back; None for all."""
    return None if days is None else max(0, min(int(days), 36_500))


def wrong_field(error: RequestValidationError) -> tuple[str, str]:
    """The field that an invalid form is about, and a sentence for a person."""
    first = error.errors()[0]
    field = str(first["loc"][-1])
    cause = first.get("ctx", {}).get("error")
    if isinstance(cause, BadInput):
        return field, cause.sentence
    typed = str(first.get("input", ""))[:40]
    missing = f"The field '{field.replace('_', ' ')}' is missing or cannot be read: fill it in."
    return field, _SENTENCES.get(first["type"], missing).format(typed=typed)
