"""The options that change a camera on the command line."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import click

from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Recipe
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.library.changes import Changes, changed_recipe
from anaxis.sandbox.pictures import safe_cut_list

_OPTIONS = [f.name for f in fields(Changes) if f.name != "rate"]


def split(options: dict[str, Any]) -> tuple[Changes, dict[str, Any]]:
    """The options that change the camera, and those that say what the file does not.

    ``--rate`` with ``--keep`` is a rate to change to; without it, the rate the file is in.
    """
    changes = {k: options.pop(k) for k in _OPTIONS}
    keep = changes["keep"]
    if keep and not options["rate"]:
        raise BadInput(f"--keep {keep} needs the rate to change to: add --rate, such as --rate 25.")
    return Changes(**changes, rate=options["rate"] if keep else None), {
        **options,
        "rate": None if keep else options["rate"],
    }


def with_changes(recipe: Recipe, changes: Changes, scene: Scene, camera: str | None, picture: Picture) -> Recipe:
    """The recipe with one operation for each option. Raises BadInput."""
    changed, notes = changed_recipe(recipe, changes, scene, camera, picture, safe_cut_list)
    for note in notes:
        click.echo(f"anaxis: {note}", err=True)
    return changed
