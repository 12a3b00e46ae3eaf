"""One change of a recipe as a form asks for it: an operation added, changed, moved, switched or removed."""

from __future__ import annotations

import json
from collections.abc import Sequence

from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.operations import kind_of
from anaxis.core.recipe.replay import inserted


def changed_recipe(recipe: Recipe, form: dict[str, str]) -> tuple[Recipe, str]:
    """The recipe after one change, and what was changed in a few words. Raises BadInput."""
    action = form.get("action", "")
    if action == "add":
        operation = _operation(form)
        label = kind_of(operation.code).label
        return inserted(recipe, operation), f"{label}: {kind_of(operation.code).says(operation.params)}"
    at = whole_number(form.get("index", ""), "operation")
    if not 0 <= at < len(recipe):
        raise BadInput("This operation is no longer in the recipe: reload the page.")
    one, rest = recipe[at], (*recipe[:at], *recipe[at + 1 :])
    label = kind_of(one.code).label
    if action == "out":
        return rest, f"{label} removed"
    if action in ("on", "off"):
        switched = Operation(one.code, one.params, action == "on")
        return (*recipe[:at], switched, *recipe[at + 1 :]), f"{label} switched {action}"
    if action in ("up", "down"):
        to = max(0, min(len(rest), at + (-1 if action == "up" else 1)))
        return (*rest[:to], one, *rest[to:]), f"{label} moved {action}"
    if action == "change":
        fresh = _operation({**form, "code": one.code})
        return (*recipe[:at], fresh, *recipe[at + 1 :]), f"{label}: {kind_of(one.code).says(fresh.params)}"
    raise BadInput("The form cannot be read: reload the page and try again.")


def _operation(form: dict[str, str]) -> Operation:
    """An operation as a finding's remedy gives it, or as it was typed."""
    if form.get("operation"):
        try:
            remedy = json.loads(form["operation"])
        except (ValueError, RecursionError) as error:
            raise BadInput("The remedy cannot be read: reload the page and try again.") from error
        return recipe_from_document([remedy])[0]
    kind = kind_of(form.get("code", ""))
    typed = {f.name: form.get(f"param_{f.name}", "") for f in kind.fields}
    return kind.operation(typed)


def whole_number(text: str, what: str) -> int:
    try:
        return int(text)
    except ValueError as error:
        raise BadInput(f"'{text}' is not the number of a {what}: reload the page and try again.") from error


def with_levels_still(recipe: Recipe, paths: Sequence[str]) -> Recipe:
    """The recipe with the levels at these paths held still as at the first frame."""
    for path in paths:
        recipe = inserted(recipe, Operation("level", {"node": path, "way": "still"}))
    return recipe
