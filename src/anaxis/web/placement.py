"""Placing a camera: typed, on a point and heading, from landmark pairs, or near the origin; in a package's axes and unit."""

from __future__ import annotations

import re
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form

from anaxis.core.axes import Convention
from anaxis.core.errors import BadInput
from anaxis.core.landmarks import Landmarks
from anaxis.core.placement import Similarity, at_frame, from_pairs, near_origin
from anaxis.core.project import pixel_matrices, project
from anaxis.core.recipe import Operation, inserted
from anaxis.core.timing import format_frame
from anaxis.core.track import Track
from anaxis.core.typing import Floats
from anaxis.flow import Picture
from anaxis.profiles.habits import about_axis
from anaxis.store.queries import get_version, picture_of_version, recipe_of, track_of
from anaxis.store.versions import edit_version
from anaxis.web.landmarks import axes_of
from anaxis.web.lens import place_of
from anaxis.web.pages import Store, number_or_none
from anaxis.web.recipe import back_to

router = APIRouter(prefix="/cameras")


@router.post("/{camera_id}/place")
def placed(
    store: Store, camera_id: int, version: Annotated[int, Form()], action: Annotated[str, Form()], axes: Annotated[str, Form()] = "file",
    to: Annotated[str, Form()] = "", move: Annotated[str, Form()] = "", axis: Annotated[str, Form()] = "Y", angle: Annotated[str, Form()] = "",
    scale: Annotated[str, Form()] = "", frame: Annotated[str, Form()] = "", point: Annotated[str, Form()] = "", heading: Annotated[str, Form()] = "",
    pairs: Annotated[str, Form()] = "", with_scale: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    kept = get_version(store, camera_id, version)
    convention, unit = axes_of(store, kept, axes)
    track, marks, _ = track_of(kept)
    if action == "type":
        found, told = _typed(convention, unit, move, axis, angle, scale)
    elif action == "point":
        at = place_of(track, frame)
        where = convention.position_to_canonical(_three(point, "the point"))
        found = at_frame(track, at, where, number_or_none(heading, "a heading"))
        told = f"frame {format_frame(track.frames[at])} stands on {point.strip()} {unit}" + (
            f", heading {heading}°" if heading.strip() else ""
        )
    elif action == "pairs":
        found, told = _solved(pairs, bool(with_scale), convention, track, marks, picture_of_version(kept))
    elif action == "origin":
        found, told = near_origin(track), "the middle of the path over the origin"
    else:
        raise BadInput("That is no way to place a camera: reload the page.")
    operation = Operation("place", {**found.as_params(), "told": told[:300]})
    edit_version(store, kept, inserted(recipe_of(kept), operation), f"Placed: {told}"[:300])
    return back_to(camera_id, "place", to)


def _typed(
    convention: Convention, unit: str, move: str, axis: str, angle: str, scale: str
) -> tuple[Similarity, str]:
    """Turned about the origin, scaled, then moved."""
    if axis not in "XYZ" or len(axis) != 1:
        raise BadInput(f"'{axis}' is no axis: choose X, Y or Z.")
    turn_deg, factor = number_or_none(angle, "an angle") or 0.0, number_or_none(scale, "a scale")
    shift = convention.position_to_canonical(_three(move, "the move")) if move.strip() else np.zeros(3)
    factor = 1.0 if factor is None else factor
    if turn_deg == 0 and factor == 1.0 and not shift.any():
        raise BadInput("Nothing was typed to place the camera by: a move, a turn or a scale.")
    told = ", ".join(
        t for t in (f"turned {turn_deg:g}° about {axis}" if turn_deg else "", f"scaled by {factor:g}" if factor != 1 else "",
                    f"moved by {move.strip()} {unit}" if move.strip() else "") if t
    )  # fmt: skip
    return Similarity(factor, about_axis(axis, turn_deg, convention), shift), told


def _three(text: str, what: str) -> Floats:
    try:
        found = np.array([float(p) for p in re.split(r"[\s,;]+", text.strip())])
    except ValueError as error:
        raise BadInput(f"'{text}' is no place for {what}: type three numbers, such as 120 0 35.") from error
    if found.shape != (3,) or not np.isfinite(found).all():
        raise BadInput(f"'{text}' is no place for {what}: type three numbers, such as 120 0 35.")
    return found


def _solved(
    text: str, with_scale: bool, convention: Convention, track: Track, marks: Landmarks, picture: Picture
) -> tuple[Similarity, str]:
    """From rows of a landmark's name and where it is to stand; residuals in metres and in pixels, the worst named."""
    names, theirs = [], []
    for number, line in enumerate(text.strip().splitlines(), 1):
        found = re.match(
            r"^\s*(.+?)[\s,;]+(-?[\d.eE+-]+)[\s,;]+(-?[\d.eE+-]+)[\s,;]+(-?[\d.eE+-]+)\s*$", line
        )
        if not found:
            raise BadInput(
                f"Row {number} of the pairs, '{line.strip()[:40]}', is no landmark and its three numbers."
            )
        marks.index(found[1])  # raises the sentence for a name that is not there
        names.append(found[1])
        theirs.append(_three(" ".join(found.groups()[1:]), f"row {number}"))
    if not names:
        raise BadInput("Type three landmarks or more, each with where it is to stand.")
    ours = marks.position_m[0, [marks.index(n) for n in names]]
    goal = convention.position_to_canonical(np.array(theirs))
    solved = from_pairs(ours, goal, with_scale)
    worst = int(np.argmax(solved.residual_m))
    moved = solved.similarity.track(track)
    seen, depth = project(
        pixel_matrices(moved, picture.image, picture.fit),
        np.stack([solved.similarity.points(ours)[worst], goal[worst]]),
    )
    ahead = (depth > 1e-3).all(axis=1)
    pixels = float(np.hypot(*(seen[ahead, 0] - seen[ahead, 1]).T).max()) if ahead.any() else 0.0
    said = f"from {len(names)} pairs" + (f", scale {solved.similarity.scale:.6g}" if with_scale else "")
    return (
        solved.similarity,
        f"{said}; the worst is '{names[worst]}', {solved.residual_m[worst]:.4f} m and at most {pixels:.2f} px off",
    )
