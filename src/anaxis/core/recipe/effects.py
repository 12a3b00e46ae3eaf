"""What a recipe does beside moving the camera: to the picture, to where all of it stands, and what it needs for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any

from anaxis.core.motion.placement import Similarity, no_placement
from anaxis.core.recipe.model import Kind, Recipe
from anaxis.core.recipe.operations import kind_of
from anaxis.core.scene.picture import Picture


def _told(recipe: Recipe, trait: str) -> Iterator[Any]:
    """What each operation that is switched on says by one of its kind's properties."""
    for operation in recipe:
        kind: Kind[Any] = kind_of(operation.code)
        of = getattr(kind, trait)
        if operation.on and of is not None:
            yield of(kind.read(operation.params))


def placement_of(recipe: Recipe) -> Similarity:
    """Every placement of a recipe that is switched on, as one."""
    whole = no_placement()
    for placed in _told(recipe, "placement"):
        whole = whole.then(placed)
    return whole


def is_placed(recipe: Recipe) -> bool:
    return any(True for _ in _told(recipe, "placement"))


def picture_after(picture: Picture, recipe: Recipe) -> Picture:
    """The picture once a recipe has taken parts of it: the last part's size, else as it was."""
    changed = list(_told(recipe, "picture"))
    return replace(picture, image=changed[-1][1], image_guessed=False) if changed else picture


def picture_before(picture: Picture, recipe: Recipe) -> Picture:
    """The inverse of :func:`picture_after`: the plate the recipe's first part was taken from."""
    changed = list(_told(recipe, "picture"))
    return replace(picture, image=changed[0][0]) if changed else picture


def changes_picture(recipe: Recipe) -> Kind[Any] | None:
    """The kind of operation by which a recipe says the picture's size; None where it does not."""
    return next((k for o in recipe if o.on and (k := kind_of(o.code)).picture is not None), None)


def sets_of(recipes: Iterable[Recipe]) -> list[str]:
    """The SHA-256 of every file that recipes add a set from, each once."""
    return list(dict.fromkeys(sha for recipe in recipes for sha in _told(recipe, "set_of")))


def moves_time(recipe: Recipe) -> bool:
    """Whether a recipe changes on which frames the camera lies."""
    return any(o.on and kind_of(o.code).moves_time for o in recipe)


def of_the_camera(recipe: Recipe) -> Recipe:
    """The operations that move the camera: what is done to landmarks and sets left out."""
    return tuple(o for o in recipe if kind_of(o.code).moves_camera)
