"""What is saved under a name to be used again: recipes, column layouts, film backs."""

from __future__ import annotations

from typing import Any

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.core.camera.film_backs import FilmBack
from anaxis.core.errors import BadInput
from anaxis.store import keep
from anaxis.store.models import SavedFilmBack, SavedLayout, SavedRecipe, Version
from anaxis.store.queries import recipe_of


@use_case("save a recipe")
def save_recipe(context: Context, version: Version, name: str) -> SavedRecipe:
    """A version's recipe under a name, as its next version. Raises BadInput where there is nothing to save."""
    if not version.recipe:
        raise BadInput("There is no operation in this recipe yet: add one first.")
    return keep.save_recipe(context, _named(name, 120, "The recipe", "saved"), recipe_of(version))


@use_case("save a column layout")
def save_layout(context: Context, name: str, layout: dict[str, Any]) -> SavedLayout:
    """A column layout under a name; one of that name is replaced."""
    return keep.save_layout(context, _named(name, 120, "The layout", "saved"), layout)


@use_case("save a film back")
def save_film_back(context: Context, name: str, width_mm: float, height_mm: float) -> SavedFilmBack:
    """A film back under a name; one of that name is replaced."""
    return keep.save_film_back(context, FilmBack(_named(name, 60, "The film back", "kept"), width_mm, height_mm))


@use_case("take out a film back")
def drop_film_back(context: Context, name: str) -> SavedFilmBack:
    return keep.drop_film_back(context, name)


def _named(name: str, most: int, what: str, done: str) -> str:
    name = name.strip()[:most]
    if not name:
        raise BadInput(f"{what} needs a name to be {done} under: type one.")
    return name
