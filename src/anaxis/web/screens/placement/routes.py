"""Placing a camera: typed, on a point and heading, from landmark pairs, or near the origin; in a package's axes and unit."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Annotated, Any, NamedTuple

import numpy as np
from fastapi import APIRouter, Form, Request

from anaxis.app.cameras.edit import edit_version
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity, at_frame, from_pairs, near_origin
from anaxis.core.recipe.model import Operation
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import about_axis
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats
from anaxis.store.queries import get_version, picture_of_version, recipe_of, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.place import placed_svg, standing
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, number_or_none, page
from anaxis.web.screens.landmarks.routes import axes_of
from anaxis.web.screens.lens.routes import place_of
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(prefix="/cameras", dependencies=[needs()])


class Wanted(NamedTuple):
    """A placement that is asked for, what it is in words, and what each landmark pair is off by where it is solved from them."""

    similarity: Similarity
    said: str
    pairs: tuple[LandmarkPair, ...] = ()


class LandmarkPair(NamedTuple):
    """A landmark, where it is to stand (3,), and how far from there it comes to stand: in metres, and at most in pixels."""

    name: str
    goal_m: Floats
    moved_m: Floats
    off_m: float
    off_px: float | None


class PlaceForm(StationForm):
    """The Place station: ``action`` says by what the camera is placed; its numbers are read as they are typed."""

    action: str
    axes: str = "file"
    move: str = ""
    axis: str = "Y"
    angle: str = ""
    scale: str = ""
    frame: str = ""
    point: str = ""
    heading: str = ""
    pairs: str = ""
    with_scale: bool = False


def _wanted(store: Store, camera_id: int, form: PlaceForm) -> Callable[[], Wanted]:
    """What the form asks for, worked out when it is called, so that a look at it may say what is still missing."""
    kept = get_version(store, camera_id, form.version)
    convention, unit = axes_of(store, kept, form.axes)
    track, marks, _ = track_of(kept)

    def found() -> Wanted:
        if form.action == "type":
            return _typed(convention, unit, form)
        if form.action == "point":
            at = place_of(track, form.frame)
            where = convention.position_to_canonical(_three(form.point, "the point"))
            said = f"frame {format_frame(track.frames[at])} stands on {form.point.strip()} {unit}"
            said += f", heading {form.heading}°" if form.heading else ""
            return Wanted(at_frame(track, at, where, number_or_none(form.heading, "a heading")), said)
        if form.action == "pairs":
            return _solved(form.pairs, form.with_scale, convention, track, marks, picture_of_version(kept))
        if form.action == "origin":
            return Wanted(near_origin(track), "the middle of the path over the origin")
        raise BadInput("That is no way to place a camera: reload the page.")

    return found


@router.post("/{camera_id}/place")
def placed(store: Store, camera_id: int, form: Annotated[PlaceForm, Form()]) -> Any:
    kept, found = get_version(store, camera_id, form.version), _wanted(store, camera_id, form)()
    operation = Operation("place", {**found.similarity.as_params(), "told": found.said[:300]})
    edit_version(store, kept, inserted(recipe_of(kept), operation), f"Placed: {found.said}"[:300])
    return back_to(camera_id, "place", form.to)


@router.post("/{camera_id}/place/look")
def looked_at(request: Request, store: Store, camera_id: int, form: Annotated[PlaceForm, Form()]) -> Any:
    """The path and landmarks as they would stand, before that is taken; what is still missing is said in its place."""
    kept = get_version(store, camera_id, form.version)
    try:
        found = _wanted(store, camera_id, form)()
    except BadInput as error:
        return page(request, "camera/place_look.html", missing=error.sentence)
    convention, unit = axes_of(store, kept, form.axes)
    track, landmarks, _ = track_of(kept)
    marks = landmarks.shown().position_m[0]
    none = np.zeros((0, 3))
    drawing = placed_svg(
        standing(track, marks),
        standing(found.similarity.track(track), found.similarity.points(marks)),
        np.array([p.moved_m for p in found.pairs]) if found.pairs else none,
        np.array([p.goal_m for p in found.pairs]) if found.pairs else none,
        convention,
        unit,
    )
    first = convention.position_from_canonical(found.similarity.points(track.position_m[0]))
    worst = max(found.pairs, key=lambda p: p.off_m, default=None)
    return page(
        request, "camera/place_look.html", missing="", drawing=drawing, wanted=found, first=first, unit=unit, worst=worst,
        first_frame=float(track.frames[0]),
    )  # fmt: skip


def _typed(convention: Convention, unit: str, form: PlaceForm) -> Wanted:
    """Turned about the origin, scaled, then moved."""
    move, axis, angle, scale = form.move, form.axis, form.angle, form.scale
    if axis not in "XYZ" or len(axis) != 1:
        raise BadInput(f"'{axis}' is no axis: choose X, Y or Z.")
    turn_deg, factor = number_or_none(angle, "an angle") or 0.0, number_or_none(scale, "a scale")
    shift = convention.position_to_canonical(_three(move, "the move")) if move.strip() else np.zeros(3)
    factor = 1.0 if factor is None else factor
    if turn_deg == 0 and factor == 1.0 and not shift.any():
        raise BadInput("Nothing was typed to place the camera by: a move, a rotation or a scale.")
    said = ", ".join(
        t
        for t in (
            f"rotated {turn_deg:g}° about {axis}" if turn_deg else "",
            f"scaled by {factor:g}" if factor != 1 else "",
            f"moved by {move.strip()} {unit}" if move.strip() else "",
        )
        if t
    )
    return Wanted(Similarity(factor, about_axis(axis, turn_deg, convention), shift), said)


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
) -> Wanted:
    """From rows of a landmark's name and where it is to stand; residuals in metres and in pixels, the worst named."""
    names, theirs = [], []
    for number, line in enumerate(text.strip().splitlines(), 1):
        found = re.match(r"^\s*(.+?)[\s,;]+(-?[\d.eE+-]+)[\s,;]+(-?[\d.eE+-]+)[\s,;]+(-?[\d.eE+-]+)\s*$", line)
        if not found:
            raise BadInput(f"Row {number} of the pairs, '{line.strip()[:40]}', is no landmark and its three numbers.")
        marks.index(found[1])  # raises the sentence for a name that is not there
        names.append(found[1])
        theirs.append(_three(" ".join(found.groups()[1:]), f"row {number}"))
    if not names:
        raise BadInput("Type three landmarks or more, each with where it is to stand.")
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
    seen = "never seen" if worst.off_px is None else f"at most {worst.off_px:.2f} px off"
    return Wanted(solved.similarity, f"{said}; the worst is '{worst.name}', {worst.off_m:.4f} m and {seen}", off)


def _pixels_apart(camera: Track, moved_m: Floats, goal_m: Floats, picture: Picture) -> list[float | None]:
    """For each pair the most pixels between both places over the frames that see them; None where none does."""
    seen, depth = projection_of(camera, picture.image, picture.fit).project(np.concatenate([moved_m, goal_m]))
    k = len(moved_m)
    ahead = (depth[:, :k] > 1e-3) & (depth[:, k:] > 1e-3)
    apart = np.where(ahead, np.linalg.norm(seen[:, :k] - seen[:, k:], axis=2), -1.0).max(axis=0)
    return [float(v) if v >= 0 else None for v in apart]
