"""Recipes as plain JSON, and as a file holds them."""

from __future__ import annotations

from difflib import get_close_matches
from typing import Any

from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.operations import kind_of

MAX_OPERATIONS = 200


def recipe_from_document(document: Any, strict: bool = True) -> Recipe:
    """A recipe from plain JSON (a list of operations); raises BadInput that names the entry.

    Unknown keys are refused, with the nearest known one. ``strict`` False is for what is stored already: it was
    checked by whatever version kept it, and a parameter that an operation has no longer is left out.
    """
    listed = document.get("operations") if isinstance(document, dict) else document
    if not isinstance(listed, list) or len(listed) > MAX_OPERATIONS:
        raise BadInput(f"A recipe must be a list of at most {MAX_OPERATIONS} operations.")
    out = []
    for number, entry in enumerate(listed, 1):
        if not isinstance(entry, dict) or not isinstance(entry.get("params", {}), dict):
            raise BadInput(f"Operation {number} of the recipe cannot be read: it needs a code and its params.")
        kind = kind_of(str(entry.get("code")))
        if strict:
            _require_known(entry, ("code", "params", "on"), f"Operation {number} of the recipe")
            _require_known(
                entry.get("params", {}),
                tuple(f.name for f in kind.fields),
                f"Operation {number} of the recipe ('{kind.code}')",
            )
            if not isinstance(entry.get("on", True), bool):
                raise BadInput(
                    f"Operation {number} of the recipe ('{kind.code}') has \"on\": {entry['on']!r}: write true or false, without quotes."
                )
        known = {f.name for f in kind.fields}
        params = {k: v for k, v in entry.get("params", {}).items() if k in known}
        out.append(Operation(kind.code, params, bool(entry.get("on", True))))
    return tuple(out)


def _require_known(given: dict[str, Any], known: tuple[str, ...], where: str) -> None:
    """Raise BadInput for a key that means nothing here, with the nearest that does."""
    for key in given:
        if key in known:
            continue
        near = get_close_matches(str(key), known, 1, 0.5)
        listed = ", ".join(known) or "none"
        raise BadInput(
            f"{where} has the unknown key '{key}': {f'did you mean {near[0]!r}?' if near else f'there are {listed}.'}"
        )


def recipe_document(recipe: Recipe) -> list[dict[str, Any]]:
    return [o.as_dict() for o in recipe]
