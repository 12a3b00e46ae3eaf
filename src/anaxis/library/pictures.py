"""Pictures from a receiving package: what they say of the camera that took them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import pinhole_px
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Work
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Bytes, Floats
from anaxis.diagnosis.picture.border import Area
from anaxis.diagnosis.picture.candidates import OTHER_FIT
from anaxis.diagnosis.picture.edges import matched, starts_of
from anaxis.diagnosis.picture.evidence import PictureCase
from anaxis.diagnosis.picture.explain import cameras_of, likely_cameras
from anaxis.diagnosis.picture.points import picture_points
from anaxis.diagnosis.picture.said import PictureDiagnosis, diagnosed
from anaxis.diagnosis.picture.solve import FoundCamera
from anaxis.diagnosis.returned import bare_of_work
from anaxis.packages.model import Profile, profile_from_dict

# How much the aspect of a picture may differ from another and be the same.
_SAME_ASPECT = 0.012
_MOST_PICTURES, _MOST_BYTES = 12, 1_000_000
Placed = dict[str, tuple[float, float] | None]


@dataclass(frozen=True, eq=False)
class AskedPicture:
    """A picture from the package: the ``area`` of it that the camera made, the frame of the shot (None where unknown), and where
    landmarks are placed, in pixels from the upper left of the whole picture; None for one that it does not show. ``found``: by
    the edges of the set, as :func:`find_points` gives them."""

    name: str
    area: Area
    frame: float | None
    placed: Placed
    found: bool = False


class Expected(NamedTuple):
    """The camera that was sent, with its landmarks and how its picture is made; ``bare`` is it without what stands above it."""

    track: Track
    landmarks: Landmarks
    picture: Picture
    bare: tuple[Track, ...] = ()

    @classmethod
    def of_work(cls, work: Work, picture: Picture) -> Expected:
        """A camera whose recipe is done."""
        return cls(work.done, work.landmarks, picture, bare_of_work(work))


def points_in(text: str, name: str) -> Placed:
    """Rows ``name x y`` of a text, with blanks or commas; ``name -`` for a landmark that the picture does not show. Raises BadInput."""
    if len(text) > _MOST_BYTES:
        raise BadInput(f"{name} is too long for a list of landmarks: write a row for each.")
    placed: Placed = {}
    for number, row in enumerate(text.splitlines(), 1):
        cells = row.split("#")[0].replace(",", " ").replace(";", " ").split()
        if not cells or cells[0].lower() in ("name", "landmark"):
            continue
        if len(cells) == 2 and cells[1].lower() in ("-", "hidden"):
            placed[cells[0]] = None
            continue
        try:
            label, x, y = cells
            placed[label] = (float(x), float(y))
        except ValueError:
            raise BadInput(
                f"{name}, row {number}: '{row.strip()[:60]}' is not 'name x y' in pixels, or 'name -'."
            ) from None
    return placed


def image_of_area(area: Area, meant: Image) -> Image:
    """The size of a picture, with the pixel aspect of the camera's image where it has its pixels."""
    ratio = area.width / area.height
    own = abs(ratio / (meant.width_px / meant.height_px) - 1) < _SAME_ASPECT
    return Image(area.width, area.height, meant.pixel_aspect if own else 1.0)


def picture_case(expected: Expected, package: Profile | None, pictures: Sequence[AskedPicture]) -> PictureCase:
    """Raises BadInput, naming the picture, for landmarks and frames that are not the shot's."""
    if not len(expected.landmarks.names):
        raise BadInput("The camera has no landmarks: add some on Place, or take in a file that has them.")
    if len(pictures) > _MOST_PICTURES:
        raise BadInput(f"{len(pictures)} pictures: at most {_MOST_PICTURES} go at once.")
    frames = expected.track.frames
    shown = []
    for one in pictures:
        if one.frame is not None and not frames[0] <= one.frame <= frames[-1]:
            raise BadInput(
                f"{one.name}: the shot has no frame {one.frame:g}: type one from {frames[0]:g} to {frames[-1]:g}, or leave it unknown."
            )
        here = {n: None if p is None else (p[0] - one.area.x, p[1] - one.area.y) for n, p in one.placed.items()}
        image = image_of_area(one.area, expected.picture.image)
        shown.append(picture_points(one.name, image, one.frame, expected.landmarks, here, one.found))
    return PictureCase(
        expected.track, expected.landmarks, expected.picture.image, expected.picture.fit,
        package.convention if package is not None else Convention(), tuple(shown), expected.bare,
    )  # fmt: skip


def explain_pictures(expected: Expected, package: Profile | None, pictures: Sequence[AskedPicture]) -> PictureDiagnosis:
    """What happened to the camera before the pictures were taken. Raises BadInput."""
    return diagnosed(picture_case(expected, package, pictures))


def camera_of_picture(expected: Expected, package: Profile | None, picture: AskedPicture) -> FoundCamera | None:
    """The camera that took a picture; None where its landmarks do not determine one. Raises BadInput."""
    (camera,), _ = cameras_of(picture_case(expected, package, [picture]))
    return camera


class PictureProfile(NamedTuple):
    """A package's profile with what pictures say of it, and how sure each field is, 0 to 1; ``untold`` are the fields that no picture
    tells, which stay as they are in the profile begun from."""

    profile: Profile
    confidence: dict[str, float]
    untold: tuple[str, ...]


def profile_from_pictures(base: Profile, found: PictureDiagnosis, key: str = "", label: str = "") -> PictureProfile:
    """A profile written from pictures of the calibration camera, or of any other. Raises BadInput where no known cause explains them."""
    if not found.explained:
        raise BadInput("No known cause explains these pictures, so no profile can be written from them.")
    best = found.explanations[0]
    document = with_causes(base, [{"code": c, **p} for c, p in best.causes])
    document |= {k: v for k, v in (("key", key), ("label", label)) if v}
    fits = sum(e.probability for e in found.explanations if any(c == OTHER_FIT for c, _ in e.causes))
    own_fit = any(c == OTHER_FIT for c, _ in best.causes)
    frames = len(set(best.frames))
    confidence = {
        "habits": best.probability / (1 + len(best.same_picture)),
        "fit": fits if own_fit else 1 - fits,
        "frame numbers": best.probability if frames > 1 else best.probability * 0.5,
    }
    return PictureProfile(
        profile_from_dict(document, "the profile from pictures"), confidence, ("axes", "unit", "rotation order", "rate", "film back unit")
    )  # fmt: skip


def with_causes(package: Profile, causes: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """A profile's document with causes as its habits; how a package fits the image is a rule of its lens."""
    document = package.model_dump(mode="json")
    document["habits"] = [*document["habits"], *(c for c in causes if c["code"] != OTHER_FIT)]
    for cause in causes:
        if cause["code"] == OTHER_FIT:
            document["lens"] = {**document["lens"], "fit": cause["fit"]}
    return document


class FoundPoints(NamedTuple):
    """Landmarks found by the edges of a picture, in pixels of the whole of it; ``off_px`` is the median distance of the set's lines
    from the edges, ``on_edges`` the share of them that lies on one."""

    placed: dict[str, tuple[float, float]]
    off_px: float
    on_edges: float


def find_points(
    expected: Expected, lines_m: Floats, package: Profile | None, pixels: Bytes, area: Area, frame: float | None
) -> FoundPoints | None:
    """Where a picture shows the landmarks, by the edges of the set; None where the set is not found. A proposal to be looked at."""
    image = image_of_area(area, expected.picture.image)
    case = PictureCase(
        expected.track, expected.landmarks, expected.picture.image, expected.picture.fit,
        package.convention if package is not None else Convention(), (), expected.bare,
    )  # fmt: skip
    cameras = likely_cameras(case, frame, image)
    starts = [s for c in cameras for s in starts_of(*c)]
    found = matched(np.ascontiguousarray(area.within(pixels)), lines_m, starts, image)
    if found is None:
        return None
    at = 0 if frame is None else int(np.abs(expected.track.frames - frame).argmin())
    place = expected.landmarks.position_m[min(at, len(expected.landmarks.position_m) - 1)]
    camera = found.start
    px, depth = pinhole_px(place, camera.position_m, camera.rotation, camera.lens.intrinsics(image))
    inside = (depth > 0.01) & ((px > 0) & (px < (image.width_px, image.height_px))).all(axis=1)
    shown = px + np.array([area.x, area.y])
    placed = {expected.landmarks.names[i]: (float(shown[i, 0]), float(shown[i, 1])) for i in np.flatnonzero(inside)}
    return FoundPoints(placed, found.off_px, found.on_edges)


def camera_track(found: FoundCamera, expected: Expected, name: str, frame: float | None) -> Track:
    """The camera that took a picture as a track of one frame, on the film back of the camera meant."""
    width_mm = float(expected.track.lens.film_width_mm[0] * expected.track.lens.squeeze[0])
    per_px = width_mm / found.image.width_px
    height_mm = width_mm / found.image.aspect
    aside = found.lens.centre_px - np.array([found.image.width_px, found.image.height_px]) / 2
    lens = make_lens(
        1, focal_mm=found.lens.focal_px * per_px, film_width_mm=width_mm, film_height_mm=height_mm,
        offset_x_mm=-aside[0] * per_px, offset_y_mm=aside[1] * per_px / found.image.pixel_aspect,
    )  # fmt: skip
    at = expected.track.frames[0] if frame is None else frame
    return Track(
        name=name, frames=np.array([float(at)]), rate=expected.track.rate, position_m=found.position_m[None],
        rotation=found.rotation[None], lens=lens,
    )  # fmt: skip


FOUND = "# found by the edges of"


def read_points(path: Path) -> tuple[Placed, bool]:
    """The landmarks of a file of points, and whether they were found by edges. Raises BadInput."""
    try:
        text = path.read_text(encoding="utf-8-sig")
        return points_in(text, path.name), text.startswith(FOUND)
    except OSError as error:
        raise BadInput(f"There is no file {path} ({error.strerror}): check the name.") from error
    except UnicodeDecodeError as error:
        raise BadInput(f"{path.name} is not a text in UTF-8: write rows 'name x y'.") from error
