"""A placement as it is typed: by numbers, on a point and heading, from landmark pairs, or near the origin."""

from __future__ import annotations

import re
from typing import NamedTuple

import numpy as np
from pydantic import BaseModel

from anaxis.app.cameras.edit import add_operations
from anaxis.app.cameras.lens import place_of
from anaxis.app.context import Context
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity, at_frame, from_pairs, near_origin
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import about_axis
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats
from anaxis.store.models import Version
from anaxis.store.queries import picture_of_version, track_of


class TypedPlacement(NamedTuple):
    """A placement that is asked for, what it is in words, and what each landmark pair is off by where it is solved from them."""

    similarity: Similarity
    said: str
    pairs: tuple[LandmarkPair, ...] = ()


class PlacementFields(BaseModel):
    """``action`` says by what the camera is placed (type, point, pairs, origin); the numbers are read as they are typed."""

    action: str
    move: str = ""
    axis: str = "Y"
    angle: str = ""
    scale: str = ""
    frame: str = ""
    point: str = ""
    heading: str = ""
    pairs: str = ""
    with_scale: bool = False


class LandmarkPair(NamedTuple):
    """A landmark, where it is to stand (3,), and how far from there it comes to stand: in metres, and at most in pixels."""

    name: str
    goal_m: Floats
    moved_m: Floats
    off_m: float
    off_px: float | None


def placement_typed(version: Version, convention: Convention, unit: str, fields: PlacementFields) -> TypedPlacement:
    """The placement that the fields ask for, in a package's axes and unit. Raises BadInput for what is missing or wrong."""
    track, marks, _ = track_of(version)
    if fields.action == "type":
        return _typed(convention, unit, fields)
    if fields.action == "point":
        at = place_of(track, fields.frame)
        where = convention.position_to_canonical(_three(fields.point, "the point"))
        said = f"frame {format_frame(track.frames[at])} is on {fields.point.strip()} {unit}"
        said += f", heading {fields.heading}°" if fields.heading else ""
        return TypedPlacement(at_frame(track, at, where, number_or_none(fields.heading, "a heading")), said)
    if fields.action == "pairs":
        return _solved(fields.pairs, fields.with_scale, convention, track, marks, picture_of_version(version))
    if fields.action == "origin":
        return TypedPlacement(near_origin(track), "the middle of the path above the origin")
    raise BadInput("The form cannot be read: reload the page.")


def place_camera(context: Context, version: Version, wanted: TypedPlacement) -> Version:
    """The camera with its landmarks and set placed, as a new version."""
    params = {**wanted.similarity.as_params(), "told": wanted.said[:300]}
    return add_operations(context, version, [Operation("place", params)], f"Placed: {wanted.said}")


def _typed(convention: Convention, unit: str, form: PlacementFields) -> TypedPlacement:
    """Turned about the origin, scaled, then moved."""
    move, axis, angle, scale = form.move, form.axis, form.angle, form.scale
    if axis not in "XYZ" or len(axis) != 1:
        raise BadInput(f"'{axis}' is not an axis: choose X, Y or Z.")
    turn_deg, factor = number_or_none(angle, "an angle") or 0.0, number_or_none(scale, "a scale")
    shift = convention.position_to_canonical(_three(move, "the move")) if move.strip() else np.zeros(3)
    factor = 1.0 if factor is None else factor
    if turn_deg == 0 and factor == 1.0 and not shift.any():
        raise BadInput("Type a move, a rotation or a scale.")
    said = ", ".join(
        t
        for t in (
            f"rotated {turn_deg:g}° about {axis}" if turn_deg else "",
            f"scaled by {factor:g}" if factor != 1 else "",
            f"moved by {move.strip()} {unit}" if move.strip() else "",
        )
        if t
    )
    return TypedPlacement(Similarity(factor, about_axis(axis, turn_deg, convention), shift), said)


def _three(text: str, what: str) -> Floats:
    try:
        found = np.array([float(p) for p in re.split(r"[\s,;]+", text.strip())])
    except ValueError:
        found = np.zeros(0)
    if found.shape != (3,) or not np.isfinite(found).all():
        raise BadInput(f"'{text}' is not a position of {what}: type three numbers, such as 120 0 35.")
    return found


def _solved(
    text: str, with_scale: bool, convention: Convention, track: Track, marks: Landmarks, picture: Picture
) -> TypedPlacement:
    """From rows of a landmark's name and where it is to stand; residuals in metres and in pixels, the worst named."""
    names, theirs = [], []
    for number, line in enumerate(text.strip().splitlines(), 1):
        found = re.match(r"^\s*(.+?)[\s,;]+(-?[\d.eE+-]+)[\s,;]+(-?[\d.eE+-]+)[\s,;]+(-?[\d.eE+-]+)\s*$", line)
        if not found:
            raise BadInput(f"Row {number} of the pairs, '{line.strip()[:40]}', is not a landmark with three numbers.")
        marks.index(found[1])  # raises the sentence for a name that is not there
        names.append(found[1])
        theirs.append(_three(" ".join(found.groups()[1:]), f"row {number}"))
    if not names:
        raise BadInput("Type three landmarks or more, each with its new position.")
    ours = marks.position_m[0, [marks.index(n) for n in names]]
    goal = convention.position_to_canonical(np.array(theirs))
    solved = from_pairs(ours, goal, with_scale)
    moved = solved.similarity.points(ours)
    pixels = _pixels_apart(solved.similarity.track(track), moved, goal, picture)
    off = tuple(
        LandmarkPair(name, goal[i], moved[i], float(solved.residual_m[i]), pixels[i]) for i, name in enumerate(names)
    )
    worst = max(off, key=lambda p: p.off_m)
    said = f"from {len(names)} pairs" + (f", scale {solved.similarity.scale:.6g}" if with_scale else "")
    seen = "not in the picture" if worst.off_px is None else f"at most {worst.off_px:.2f} px off"
    return TypedPlacement(
        solved.similarity, f"{said}; the largest error is at '{worst.name}', {worst.off_m:.4f} m and {seen}", off
    )


def _pixels_apart(camera: Track, moved_m: Floats, goal_m: Floats, picture: Picture) -> list[float | None]:
    """For each pair the most pixels between both places over the frames that see them; None where none does."""
    seen, depth = projection_of(camera, picture.image, picture.fit).project(np.concatenate([moved_m, goal_m]))
    k = len(moved_m)
    ahead = (depth[:, :k] > 1e-3) & (depth[:, k:] > 1e-3)
    apart = np.where(ahead, np.linalg.norm(seen[:, :k] - seen[:, k:], axis=2), -1.0).max(axis=0)
    return [float(v) if v >= 0 else None for v in apart]
