"""Screenshots of a receiving package: taken in, their landmarks placed, and what they say of the camera."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.cameras.edit import keep_camera
from anaxis.app.cameras.take_in import on_disk, take_in_bytes
from anaxis.app.context import Context
from anaxis.core.camera.projection import projection_of
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.picture import picture_of
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Bytes
from anaxis.diagnosis.picture.border import Area, area_of, parse_area
from anaxis.diagnosis.picture.edges import corners_of
from anaxis.diagnosis.returned import bare_of
from anaxis.diagnosis.stills import read_png
from anaxis.formats.track_json.document import track_bytes
from anaxis.library.archive import scene_from_bytes
from anaxis.library.pictures import (
    AskedPicture,
    Expected,
    FoundPoints,
    camera_of_picture,
    camera_track,
    explain_pictures,
    find_points,
    image_of_area,
    picture_case,
)
from anaxis.library.scene_report import look
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.sandbox.guard import ParserPool
from anaxis.sandbox.pictures import safe_png
from anaxis.store.contents import values_of
from anaxis.store.models import Version
from anaxis.store.queries import found, picture_of_version, recipe_of, staged_scene, track_of
from anaxis.store.rows import NotFound
from anaxis.store.screenshots import Screenshot

# Beside landmarks that a person placed, so many of those that the package showed before may be looked at together.
_MOST_OF_A_PACKAGE = 12
_MOST_LANDMARKS = 2000


@use_case("add screenshot")
def add_screenshot(
    context: Context, version: Version, package: Profile, name: str, data: bytes, frame: float | None
) -> Screenshot:
    """A picture from the package, with the part of it that the camera made. Raises BadInput."""
    _require_frame(version, frame)
    (png,) = [safe_png(path) for path in on_disk([(name, data)])]
    pixels = read_png(png)
    row = Screenshot(
        version_id=version.id, profile=package.model_dump(mode="json"), name=name[-200:], **values_of(context, png), width_px=pixels.shape[1],
        height_px=pixels.shape[0], area=list(area_of(pixels, picture_of_version(version).image.aspect)), frame=frame,
    )  # fmt: skip
    context.add(row)
    context.flush()
    return row


@use_case("place landmarks")
def place_landmarks(
    context: Context, row: Screenshot, points: Mapping[str, Sequence[float] | None], frame: float | None, area: str = ""
) -> Screenshot:
    """Where a person sees the landmarks, in pixels of the whole picture; None for one that is not visible. ``area`` is the part that the
    camera made as "x,y,width,height", "" to leave it. Raises BadInput."""
    _require_frame(row.version, frame)
    names = set(track_of(row.version)[1].names)
    if len(points) > _MOST_LANDMARKS or not set(points) <= names:
        raise BadInput("A placed landmark is not one of this version's: reload the page.")
    placed = {n: None if p is None else [float(v) for v in p] for n, p in points.items()}
    if any(
        p is not None and (len(p) != 2 or not np.isfinite(p).all() or np.abs(p).max() > 1e6) for p in placed.values()
    ):
        raise BadInput("A landmark's place is not a pixel: type x and y in pixels.")
    if area and area.replace(" ", "") != ",".join(str(v) for v in row.area[:4]):
        row.area = list(parse_area(area, pixels_of(row)))
    row.found = row.found and placed == row.points
    row.points, row.frame, row.diagnosis = placed, frame, {}
    context.flush()
    return row


@use_case("find landmarks")
def find_landmarks(context: Context, row: Screenshot) -> Screenshot:
    """The landmarks by the edges of the set, to be looked at by a person. Raises BadInput where the set is not found."""
    proposal = proposed_points(context, row)
    if proposal is None:
        raise BadInput(
            f"The set is not found in {row.name}: it may not show the set, or not as lines or shaded. Place the landmarks by hand."
        )
    row.points, row.found, row.diagnosis = {n: list(p) for n, p in proposal.placed.items()}, True, {}
    context.flush()
    return row


def proposed_points(context: Context, row: Screenshot) -> FoundPoints | None:
    version, pixels = row.version, pixels_of(row)
    expected, lines = expected_of_version(version), track_of(version)[2]
    context.release_connection()
    return find_points(expected, lines, _package(row), pixels, Area(*row.area), row.frame)


@use_case("explain screenshots")
def explain_screenshots(context: Context, row: Screenshot) -> Screenshot:
    """What this picture says of the camera, together with the others of the same package whose landmarks are placed. Raises BadInput."""
    rows = [row, *(r for r in beside(context, row) if r.placed)][:_MOST_OF_A_PACKAGE]
    asked = [asked_of(r) for r in rows]
    expected, package = expected_of_version(row.version), _package(row)
    picture_case(expected, package, asked)  # refused before anything is worked out
    context.release_connection()
    found = explain_pictures(expected, package, asked)
    row.diagnosis = found.as_dict() | {"screenshots": [r.id for r in rows]}
    context.flush()
    return row


@use_case("remove screenshot")
def remove_screenshot(context: Context, row: Screenshot) -> Screenshot:
    row.removed_at = datetime.now(UTC)
    context.flush()
    return row


@use_case("save camera of screenshot")
def save_camera(context: Context, parsers: ParserPool, row: Screenshot, name: str = "") -> Version:
    """The camera that took a picture as a camera of the shot, with one frame. Raises BadInput where its landmarks are too few."""
    version = row.version
    expected = expected_of_version(version)
    found = camera_of_picture(expected, _package(row), asked_of(row))
    if found is None:
        raise BadInput(f"{row.name} has too few landmarks to find its camera: place at least 6.")
    shot = version.camera.shot
    wanted = " ".join(name.split()) or f"{version.camera.name}_of_{row.profile['key']}"
    track = camera_track(found, expected, wanted, row.frame)
    image = image_of_area(Area(*row.area), picture_of_version(version).image)
    at = 0 if row.frame is None else int(np.abs(expected.track.frames - row.frame).argmin())
    marks = expected.landmarks.at_frames(np.array([min(at, len(expected.landmarks.position_m) - 1)]))
    data = track_bytes(Outgoing(track, Convention(), image, "width", marks, ()))
    source = take_in_bytes(context, parsers, f"{shot.name}_{wanted}.json"[-120:], data)
    source, scene = staged_scene(context, source.id)
    return keep_camera(
        context, shot, source, look(source.scene, {})[0], wanted, picture_of(scene, None, None), f"found in {row.name}"
    )


def get_screenshot(context: Context, number: int) -> Screenshot:
    row = found(context, Screenshot, number, "screenshot")
    if row.removed_at is not None:
        raise NotFound(f"Screenshot {number} was removed: add it again.")
    return row


def screenshots_of(context: Context, version: Version) -> list[Screenshot]:
    """The screenshots of a version, newest first."""
    mine = select(Screenshot).where(Screenshot.version_id == version.id, Screenshot.removed_at.is_(None))
    return list(context.execute(mine.order_by(Screenshot.id.desc())).scalars())


def beside(context: Context, row: Screenshot) -> list[Screenshot]:
    """The others of the same version and package."""
    return [
        r for r in screenshots_of(context, row.version) if r.id != row.id and r.profile["key"] == row.profile["key"]
    ]


def asked_of(row: Screenshot) -> AskedPicture:
    placed = {n: None if p is None else (float(p[0]), float(p[1])) for n, p in row.points.items()}
    return AskedPicture(row.name, Area(*row.area), row.frame, placed, row.found)


def expected_of_version(version: Version) -> Expected:
    """The camera that was sent: with its landmarks, and what stands above it left out."""
    track, landmarks, _ = track_of(version)
    scene = scene_from_bytes(version.source_file.scene)
    bare = bare_of(scene, version.camera_path, recipe_of(version), track)
    return Expected(track, landmarks, picture_of_version(version), bare)


def marks_expected(row: Screenshot) -> dict[str, list[float] | None]:
    """Where each landmark is expected in the whole picture, in px; None behind the camera, and for all where the frame is unknown."""
    track, landmarks, _ = track_of(row.version)
    marks = landmarks.shown()
    if row.frame is None:
        return dict.fromkeys(marks.names)
    picture, area = picture_of_version(row.version), Area(*row.area)
    at = int(np.abs(track.frames - row.frame).argmin())
    place = marks.position_m[at if len(marks.position_m) > 1 else 0][None]
    sees = projection_of(track.select_frames(np.array([at])), image_of_area(area, picture.image), picture.fit)
    px, depth = sees.project(place)
    return {
        name: [float(px[0, k, 0]) + area.x, float(px[0, k, 1]) + area.y] if depth[0, k] > 1e-3 else None
        for k, name in enumerate(marks.names)
    }


def corners(row: Screenshot) -> list[list[float]]:
    """Corners and crossings of the picture, that a landmark snaps to."""
    return [[round(x, 2), round(y, 2)] for x, y in corners_of(pixels_of(row)).tolist()]


def pixels_of(row: Screenshot) -> Bytes:
    return read_png(row.data)


def _package(row: Screenshot) -> Profile:
    return profile_from_dict(row.profile, "the package of the screenshot")


def _require_frame(version: Version, frame: float | None) -> None:
    facts: Mapping[str, Any] = version.facts
    if frame is not None and not facts["first_frame"] <= frame <= facts["last_frame"]:
        raise BadInput(
            f"The shot has no frame {frame:g}: type one from {facts['first_frame']:g} to {facts['last_frame']:g}, or leave it empty if it "
            "is unknown."
        )
