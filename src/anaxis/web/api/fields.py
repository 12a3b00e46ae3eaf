"""Fields of requests: numbers that a row can have, text that can be kept."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field, StringConstraints


def _storable(text: str) -> str:
    if "\0" in text:
        raise ValueError("holds a NUL, which cannot be kept")
    text.encode()  # half of a pair of code units is no character
    return text


Number = Annotated[int, Field(ge=1, le=2**31 - 1)]
Name = Annotated[str, StringConstraints(max_length=300), AfterValidator(_storable)]
