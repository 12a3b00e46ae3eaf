"""The options that change a camera on the command line, as operations of its recipe."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click

from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.lens import Image, focal_of_view_mm, parse_size_mm
from anaxis.core.camera.lens_trial import KEEPS as FILM_KEEPS
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.formats.distortion.read import read_distortion_file
from anaxis.formats.editorial.cut_list import cut_operations
from anaxis.sandbox.pictures import safe_cut_list

_CHANGES = (
    "keep",
    "span",
    "cuts",
    "handles",
    "first",
    "film_back",
    "keep_view",
    "focal",
    "fov_h",
    "distortion",
    "distortion_model",
)


def split(options: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """The options that change the camera, and those that say what the file does not.

    ``--rate`` with ``--keep`` is a rate to change to; without it, the rate the file is in.
    """
    changes = {k: options.pop(k) for k in _CHANGES}
    changes["rate"] = options["rate"] if changes["keep"] else None
    if changes["keep"] and not changes["rate"]:
        raise BadInput(f"--keep {changes['keep']} needs the rate to change to: add --rate, such as --rate 25.")
    return changes, {**options, "rate": None if changes["keep"] else options["rate"]}


def with_pixel_aspect(picture: Picture, pixel_aspect: float | None) -> Picture:
    if pixel_aspect is None:
        return picture
    image = Image(picture.image.width_px, picture.image.height_px, pixel_aspect)
    return replace(picture, image=image)


def with_changes(recipe: Recipe, changes: dict[str, Any], scene: Scene, camera: str | None, picture: Picture) -> Recipe:
    """The recipe with one operation for each option, in the order they are listed in the help."""

    def add(code: str, **params: Any) -> None:
        nonlocal recipe
        recipe = inserted(recipe, Operation(code, params))

    if changes["film_back"]:
        width, height = parse_size_mm(changes["film_back"])
        keep = {"keep": FILM_KEEPS[1]} if changes["keep_view"] else {}
        add("film_back", width_mm=width, height_mm=height, **keep)
    elif changes["keep_view"]:
        raise BadInput(
            "--keep-view says what stays under another film back: add --film-back, such as --film-back 25.6x14.4."
        )
    if changes["distortion"]:
        document = read_distortion_file(changes["distortion"], changes["distortion_model"] or "")
        frames = document.pop("frames", None)
        span, counts = changes["span"], {len(v) for v in document.values() if isinstance(v, list)}
        is_of_the_range = span and (frames is not None or counts == {round(span[1] - span[0]) + 1})
        if is_of_the_range and document["model"] != mapped.CODE:
            frames = frames or [float(f) for f in range(round(span[0]), round(span[1]) + 1)]
            add("trim", first=span[0], last=span[1])
            changes = {**changes, "span": None}
        numbered = {} if frames is None else {"frames": frames}
        add("distortion", document=document, of=changes["distortion"].name, **numbered)
    if changes["focal"] is not None and changes["fov_h"] is not None:
        raise BadInput("--focal and --fov-h say the same thing twice: leave one of them out.")
    if changes["focal"] is not None:
        add("focal", focal_mm=changes["focal"])
    if changes["span"]:
        add("trim", first=changes["span"][0], last=changes["span"][1])
    if changes["fov_h"] is not None:
        lens = take_camera(scene, camera, recipe=recipe).done.lens
        used = lens.used(picture.image, picture.fit).width_mm
        add("focal", focal_mm=float(focal_of_view_mm(used, changes["fov_h"])[0]))
    if changes["cuts"]:
        track = take_camera(scene, camera, recipe=recipe).done
        edit = safe_cut_list(changes["cuts"], track.rate)
        for note in edit.notes:
            click.echo(f"anaxis: {edit.name}: {note}", err=True)
        for mark in cut_operations(edit, track, float(track.frames[0])):
            recipe = inserted(recipe, mark)
    if changes["rate"]:
        add("rate", rate=changes["rate"], keep=changes["keep"])
    if changes["handles"] is not None:
        add("handles", head=changes["handles"], tail=changes["handles"], way="hold")
    if changes["first"] is not None:
        add("renumber", first=changes["first"])
    return recipe
