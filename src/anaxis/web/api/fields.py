"""Fields of requests: numbers that a row can have, text that can be kept; and how each address may refuse."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import AfterValidator, Field, StringConstraints

from anaxis.app.documents import Problem
from anaxis.formats import WRITTEN

# The statuses with which any address may answer, for its description.
REFUSALS: dict[int | str, dict[str, Any]] = {
    s: {"model": Problem} for s in (400, 401, 403, 404, 405, 409, 413, 422, 503, 507)
}


def _storable(text: str) -> str:
    if "\0" in text:
        raise ValueError("has a NUL character, which cannot be stored")
    text.encode()  # half of a pair of code units is no character
    return text


_FORMATS = [f.key for f in WRITTEN]
Number = Annotated[int, Field(ge=1, le=2**31 - 1)]
Name = Annotated[str, StringConstraints(max_length=300), AfterValidator(_storable)]
FormatKey = Annotated[
    Name, Field(description="A format that Anaxis writes.", json_schema_extra={"enum": list(_FORMATS)})
]
PackageKey = Annotated[Name, Field(description="The key of a package, shipped or your own.", examples=["zup-lh-cm"])]
