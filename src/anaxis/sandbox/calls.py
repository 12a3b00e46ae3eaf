"""Functions of the library as messages to a process apart: what they take and give, as their own annotations say it.

An argument is what pydantic makes of it as plain JSON; arrays and archives are blocks beside it
(:mod:`anaxis.core.typing`). Whoever adds a function to :data:`FUNCTIONS` annotates it, and that is all.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from inspect import signature
from typing import Any, get_type_hints

import numpy as np
from pydantic import TypeAdapter

from anaxis.delivery.transfer_sheet import sheet_pdf
from anaxis.diagnosis.covered import coverage, proposals
from anaxis.library.around import around, set_of
from anaxis.library.made import derived, packed_up, proved_set, retimed, written
from anaxis.library.returned import camera_came_back, table_came_back
from anaxis.library.scene_report import (
    camera_after,
    chain_after,
    finer_track,
    fitting_recipe,
    levels_of,
    look,
    own_samples,
)
from anaxis.library.set_listing import set_listing
from anaxis.sandbox.messages import Document, Message

FUNCTIONS: dict[str, Callable[..., Any]] = {
    function.__name__: function
    for function in (
        around, camera_after, camera_came_back, chain_after, coverage, derived, finer_track, fitting_recipe, levels_of, look,
        own_samples, packed_up, proposals, proved_set, retimed, set_listing, set_of, sheet_pdf, table_came_back, written,
    )
}  # fmt: skip

# A process apart does not say how far it is.
_HERE_ALONE = "progress"


@cache
def _adapters(name: str) -> dict[str, TypeAdapter[Any]]:
    hints = get_type_hints(FUNCTIONS[name], include_extras=True)
    return {k: TypeAdapter(hint) for k, hint in hints.items() if k != _HERE_ALONE}


def load() -> None:
    """Make ready what each function takes and gives, before the first is asked for."""
    for name in FUNCTIONS:
        _adapters(name)


def question_of(function: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Message:
    """The message that asks for a function's value. Raises KeyError where it is not one of :data:`FUNCTIONS`."""
    name = function.__name__
    adapters, blocks = _adapters(name), list[bytes]()
    bound = signature(FUNCTIONS[name]).bind(*args, **kwargs).arguments
    given = {
        k: adapters[k].dump_python(v, mode="json", context=blocks, fallback=_plain, warnings=False)
        for k, v in bound.items()
        if k != _HERE_ALONE
    }
    return {"function": name, "given": given}, blocks


def _plain(value: Any) -> Any:
    """A number of numpy's where Python's was annotated: arithmetic leaves them behind."""
    if isinstance(value, np.generic):
        return value.item()
    raise TypeError(f"a {type(value).__name__} cannot be sent to another process")


def answer_to(document: Document, blocks: list[bytes]) -> Message:
    """The function done that a message asks for, and its value as a message. Raises what the function raises."""
    name = document["function"]
    adapters, made = _adapters(name), list[bytes]()
    given = {k: adapters[k].validate_python(v, context=blocks) for k, v in document["given"].items()}
    value = FUNCTIONS[name](**given)
    return {
        "value": adapters["return"].dump_python(value, mode="json", context=made, fallback=_plain, warnings=False)
    }, made


def value_in(function: Callable[..., Any], document: Document, blocks: list[bytes]) -> Any:
    """The value that an answer holds."""
    return _adapters(function.__name__)["return"].validate_python(document["value"], context=blocks)
