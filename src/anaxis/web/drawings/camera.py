"""What each page's drawings need, computed for all frames at once."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.depth_of_field import sharp_m
from anaxis.core.camera.lens import Image, field_of_view_deg
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.derive.derived import Shown
from anaxis.core.derive.sphere_maps import Sphere
from anaxis.core.motion.cuts import cuts_of
from anaxis.core.motion.edits import renumbered
from anaxis.core.outgoing import Numbers, make_outgoing
from anaxis.core.proof.proof import grid_depths_m, grid_pixels
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, FloatsLike, Ints
from anaxis.delivery.ready import prepare
from anaxis.packages.model import Profile
from anaxis.packages.sheet import package_offsets
from anaxis.web.drawings.bend import bend_mesh
from anaxis.web.drawings.blocks import Drawing
from anaxis.web.drawings.packed import encode_drawing

_SHOWN_NUMBERS = (
    "focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "hfov_deg", "vfov_deg", "zoom_px", "focus", "fstop",
)  # fmt: skip


def _corners_px(image: Image) -> Floats:
    w, h = image.width_px, image.height_px
    return np.array([(0, 0), (w, 0), (w, h), (0, h)], dtype=np.float64)


def _frustum_m(track: Track, meant: Projection, landmarks: Landmarks) -> Floats:
    """The image's corners at the focus distance (or its stand-in), (n, 4, 3)."""
    depth = grid_depths_m(track, meant, landmarks.position_m)[:, :1]
    return meant.unproject(_corners_px(meant.image), np.repeat(depth, 4, axis=1))


def camera_drawing(
    track: Track,
    landmarks: Landmarks,
    segments_m: Floats,
    picture: Picture,
    source: Convention,
    profile: Profile,
    there: float | None = None,
    shown: Shown | None = None,
    circle_mm: float | None = None,
    file_focus_m: Floats | None = None,
) -> Drawing:
    """Path, pictures and both sides' numbers of a camera on every frame; what each frame of a derived camera shows. What is sharp
    goes by a circle of confusion; ``file_focus_m`` (n,) is the focus distance that the file had."""
    image, landmarks = picture.image, landmarks.shown()
    meant = projection_of(track, image, picture.fit)
    ours = make_outgoing(track, source, image, picture.fit, picture.fit, landmarks).numbers()
    outgoing = prepare(track, landmarks, picture, profile, there)
    theirs = outgoing.numbers()
    offset_x, offset_y, _ = package_offsets(outgoing.track, profile)
    segments_m, ground = or_ground(segments_m, track)
    cuts = cuts_of(track)
    still: dict[str, Floats] = {
        "frames": track.frames,
        "theirs_frames": theirs.frames,
        "segments_m": segments_m,
        "cuts": cuts.astype(np.float64),
    }
    by_frame: dict[str, Floats] = {
        "meant": meant.matrices.reshape(-1, 12),
        "position_m": track.position_m,
        "frustum_m": _frustum_m(track, meant, landmarks),
        "reach_m": grid_depths_m(track, meant, landmarks.position_m)[:, 0],
        "sharp_m": sharp_m(track, track.lens.used(image, picture.fit), circle_mm),
        **{f"lens_{k}": getattr(track.lens, k) for k in CHANNELS},
        **_side("ours", ours),
        **_side("theirs", theirs),
        "theirs_offset_x": offset_x,
        "theirs_offset_y": offset_y,
    }
    if file_focus_m is not None:
        by_frame["file_focus_m"] = file_focus_m
    facts = {**_facts(track, image, landmarks), "ground_m": ground}
    if shown is not None:
        facts["shown"] = list(shown.names)
        by_frame |= {"shown_which": shown.which.astype(np.float64), "shown_frames": shown.frames}
    over_shot = (
        ("position_m",),
        *((f"lens_{k}", "file_focus_m") if k == "focus_m" else (f"lens_{k}",) for k in CHANNELS),
    )
    return _drawing(track, landmarks, picture, facts, still, by_frame, over_shot, cuts)


def _drawing(
    track: Track,
    landmarks: Landmarks,
    picture: Picture,
    facts: dict[str, Any],
    still: dict[str, Floats],
    by_frame: dict[str, Floats],
    over_shot: tuple[tuple[str, ...], ...] = (),
    breaks: Ints | None = None,
) -> Drawing:
    """A drawing with its landmarks and its mesh of the distortion, which go by frame where they move."""
    marks = {"landmarks_m": landmarks.position_m}
    moving_marks = len(landmarks.position_m) > 1
    mesh = bend_mesh(track, picture.image, picture.fit)
    return Drawing(
        {**facts, **mesh.facts},
        still | ({} if moving_marks else marks) | ({} if mesh.moves else mesh.arrays()),
        by_frame | (marks if moving_marks else {}),
        over_shot,
        ("landmarks_m",),
        np.zeros(0, np.intp) if breaks is None else breaks,
        mesh.arrays if mesh.moves else (lambda frames: {}),
    )


def or_ground(segments_m: Floats, track: Track) -> tuple[Floats, float]:
    """The set's lines; a ground grid under the path and its spacing in metres where there is no set."""
    if len(segments_m) or not len(track):
        return segments_m, 0.0
    ahead = track.position_m - track.rotation[:, :, 2] * 10.0
    reach = np.concatenate([track.position_m, ahead])[:, [0, 2]]
    low, high = reach.min(axis=0), reach.max(axis=0)
    span = float((high - low).max())
    step = float(10 ** np.ceil(np.log10(max(span, 1.0) / 30)))
    first, last = np.floor(low / step - 2) * step, np.ceil(high / step + 2) * step
    x, z = np.arange(first[0], last[0] + step / 2, step), np.arange(first[1], last[1] + step / 2, step)
    lines = np.zeros((len(x) + len(z), 2, 3))
    lines[: len(x), :, 0], lines[: len(x), :, 2] = x[:, None], [first[1], last[1]]
    lines[len(x) :, :, 2], lines[len(x) :, :, 0] = z[:, None], [first[0], last[0]]
    return lines, step


def look_drawing(track: Track, landmarks: Landmarks, lines_m: Floats, picture: Picture) -> bytes:
    """Path and picture of a camera that is not kept yet."""
    image, marks = picture.image, landmarks.shown()
    good = np.isfinite(track.position_m).all(axis=1) & np.isfinite(track.rotation).all(axis=(1, 2))
    good &= np.isfinite(track.lens.focal_mm) & (track.lens.focal_mm > 0)
    index = np.flatnonzero(good)
    track, marks = track.select_frames(index), marks.at_frames(index)
    lines, ground = or_ground(lines_m, track)
    meant = projection_of(track, image, picture.fit)
    arrays = {
        "frames": track.frames,
        "meant": meant.matrices.reshape(-1, 12),
        "position_m": track.position_m,
        "frustum_m": _frustum_m(track, meant, marks),
        "landmarks_m": marks.position_m,
        "segments_m": lines,
    }
    return encode_drawing({**_facts(track, image, marks), "ground_m": ground}, arrays)


def sphere_drawing(sphere: Sphere, marks_px: Floats, landmarks: Landmarks, lines_m: Floats) -> bytes:
    """A framing camera in its sphere: the frame's outline and the landmarks in the plate, and what it sees."""
    track, image, marks = sphere.track, sphere.image, landmarks.shown()
    used = track.lens.used(image, sphere.fit)
    lines, ground = or_ground(lines_m, track)
    arrays = {
        "frames": track.frames,
        "meant": projection_of(track, image, sphere.fit).matrices.reshape(-1, 12),
        "outline_px": sphere.outline_px(),
        "marks_px": marks_px,
        "hfov_deg": field_of_view_deg(used.width_mm, track.lens.focal_mm),
        "vfov_deg": field_of_view_deg(used.height_mm, track.lens.focal_mm),
        "landmarks_m": marks.position_m,
        "segments_m": lines,
    }
    plate = {"plate_width_px": sphere.plate.width_px, "plate_height_px": sphere.plate.height_px}
    return encode_drawing({**_facts(track, image, marks), **plate, "ground_m": ground}, arrays)


def levels_drawing(paths: list[str], arrays: dict[str, Floats]) -> bytes:
    """What each level of the camera's chain adds to the motion, on the frames of its track."""
    return encode_drawing({"levels": paths}, arrays)


def proof_drawing(
    track: Track,
    landmarks: Landmarks,
    segments_m: Floats,
    picture: Picture,
    deviation_px: Floats,
    arrived: Projection,
    first_there: float | None = None,
    keys: FloatsLike = (),
    numbers: Mapping[str, Numbers] | None = None,
) -> Drawing:
    """Both pictures on every frame, and the way from a pixel meant to the pixel that arrived.

    ``numbers`` are those of either side, by "ours" and "theirs"; ``keys`` the frames that kept a key where only some did. ``shift`` (n, 12) takes (x_px d, y_px d, d, 1) of the picture meant to the one that arrived.
    """
    image, landmarks = picture.image, landmarks.shown()
    meant = projection_of(track, image, picture.fit)
    still = {
        "frames": track.frames,
        "theirs_frames": track.frames if first_there is None else renumbered(track, first_there).frames,
        "key_frames": np.asarray(keys, dtype=np.float64),
        "deviation_px": deviation_px,
        "grid_px": grid_pixels(image),
        "segments_m": segments_m,
    }
    by_frame = {
        "meant": meant.matrices.reshape(-1, 12),
        "arrived": arrived.matrices.reshape(-1, 12),
        "shift": meant.shift_to(arrived).reshape(-1, 12),
        "grid_depths_m": grid_depths_m(track, meant, landmarks.position_m),
    }
    for side, held in (numbers or {}).items():
        by_frame |= _side(side, held)
    return _drawing(track, landmarks, picture, _facts(track, image, landmarks), still, by_frame)


def _side(side: str, numbers: Numbers) -> dict[str, Floats]:
    """A side's numbers on every frame, by the names that cells ask for them."""
    return {
        f"{side}_position": numbers.position,
        f"{side}_rotation": numbers.rotation_deg,
        **{f"{side}_{k}": getattr(numbers, k) for k in _SHOWN_NUMBERS},
    }


def _facts(track: Track, image: Image, landmarks: Landmarks) -> dict[str, Any]:
    return {
        "rate": [track.rate.numerator, track.rate.denominator],
        "width_px": image.width_px,
        "height_px": image.height_px,
        "pixel_aspect": image.pixel_aspect,
        "landmarks": list(landmarks.names),
    }
