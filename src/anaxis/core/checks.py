"""The checks a camera goes through on intake, and their registry.

A check takes a scene and a baked camera and yields findings. To add one, write it here (or in a
file of its own once it grows) and add it to CHECKS.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.bake import Baked
from anaxis.core.errors import BadInput
from anaxis.core.findings import Check, Finding, by_severity
from anaxis.core.scene import Scene
from anaxis.core.timing import KNOWN_RATES, format_frame, rate_label
from anaxis.core.track import require_usable

# Film backs in use lie between the smallest phone sensors and large-format stills.
_FILM_WIDTH_MM = (4.0, 75.0)
# Focal length over film back width, from a very wide to a very long lens.
_FOCAL_PER_WIDTH = (0.25, 15.0)
_FACTORS = (10.0, 25.4, 100.0, 1000.0)
_SCALE_MATTERS = 1e-6
_SHEAR_MATTERS = 1e-6
_STILL_M = 1e-9


def is_moving(baked: Baked) -> bool:
    """Whether the camera's position or rotation changes at all over its frames."""
    track = baked.track
    pose = np.concatenate([track.position_m, track.rotation.reshape(len(track), 9)], axis=1)
    good = pose[np.isfinite(pose).all(axis=1)]
    return bool(len(good)) and bool(np.ptp(good, axis=0).max() > _STILL_M)


def is_lens_moving(baked: Baked) -> bool:
    """Whether any lens channel changes over the frames."""
    lens = baked.track.lens
    channels = (lens.focal_mm, lens.film_width_mm, lens.film_height_mm, lens.offset_x_mm, lens.offset_y_mm,
                lens.squeeze, lens.focus_m, lens.fstop)  # fmt: skip
    return any(np.ptp(np.nan_to_num(c)) > 0 for c in channels)


def run_checks(scene: Scene, baked: Baked) -> list[Finding]:
    """Every finding about a camera, the file's own included, gravest first."""
    path = baked.node.path
    about_file = [f for f in scene.findings if f.code not in _ABOUT_ONE_CAMERA or path in f.message]
    found = [finding for check in CHECKS for finding in check(scene, baked)]
    return by_severity([*about_file, *found])


def usable(findings: list[Finding]) -> bool:
    return not any(f.severity == "error" for f in findings)


def _numbers(scene: Scene, baked: Baked) -> Iterator[Finding]:
    try:
        require_usable(baked.track, f"{scene.name}, {baked.node.path},")
    except BadInput as error:
        sentence, _, remedy = error.sentence.rpartition(": ")
        yield Finding("unusable_number", "error", sentence + ".", remedy[:1].upper() + remedy[1:])


def _lens_size(scene: Scene, baked: Baked) -> Iterator[Finding]:
    lens = baked.track.lens
    width, height, focal = (float(v[0]) for v in (lens.film_width_mm, lens.film_height_mm, lens.focal_mm))
    low, high = _FILM_WIDTH_MM
    if not (np.isfinite([width, height, focal]).all() and min(width, height, focal) > 0):
        return
    if low <= width <= high:
        return
    # With a believable view the whole lens is off by one factor; otherwise only the film back is.
    whole_lens = _FOCAL_PER_WIDTH[0] <= focal / width <= _FOCAL_PER_WIDTH[1]
    factor = _likely_factor(width, focal, whole_lens)
    seen = f"The film back is {width:g} x {height:g} mm and the focal length {focal:g} mm"
    if factor is None:
        yield Finding(
            "film_back_size",
            "warning",
            f"{seen}, which is no size in use; depth of field and every number typed from it will be off.",
            "Check the film back in the source package.",
        )
        return
    large, ratio = width > high, factor if width < low else 1 / factor
    unit = scene.convention.metres_per_unit
    why = ""
    if scene.format == "usd" and whole_lens and abs(100 * unit * ratio - 1) < 0.01:
        why = (
            f" The file is in units of {unit:g} m, where lens lengths must be written in tenths of that unit, "
            "and these look like plain millimetres."
        )
    effect = (
        "The field of view is right, but depth of field and every package that keeps the film back will be off."
        if whole_lens
        else "The field of view is off with it."
    )
    what = "film back, focal length and offsets" if whole_lens else "the film back"
    yield Finding(
        "sensor_factor",
        "warning",
        f"{seen}: {'the lens is' if whole_lens else 'the film back is'} {factor:g} times too "
        f"{'large' if large else 'small'}.{why} {effect}",
        f"{'Divide' if large else 'Multiply'} {what} by {factor:g}, which gives {width * ratio:.2f} x "
        f"{height * ratio:.2f} mm and {focal * (ratio if whole_lens else 1):.2f} mm.",
    )


def _likely_factor(width_mm: float, focal_mm: float, whole_lens: bool) -> float | None:
    """Of the usual factors, the one that leads to the least unusual lens; None if none does."""
    low, high = _FILM_WIDTH_MM

    def corrected(factor: float) -> tuple[float, float]:
        ratio = 1 / factor if width_mm > high else factor
        return width_mm * ratio, focal_mm * (ratio if whole_lens else 1.0)

    def oddness(factor: float) -> float:
        width, focal = corrected(factor)
        return abs(np.log(width / 30.0)) + abs(np.log(focal / width))

    fitting = [f for f in _FACTORS if low <= corrected(f)[0] <= high]
    return min(fitting, key=oddness, default=None)


def _film_aspect(scene: Scene, baked: Baked) -> Iterator[Finding]:
    lens = baked.track.lens
    if scene.image is None:
        return
    with np.errstate(invalid="ignore", divide="ignore"):
        film = float((lens.squeeze * lens.film_width_mm / lens.film_height_mm)[0])
    if np.isfinite(film) and film > 0 and abs(film / scene.image.aspect - 1) > 0.005:
        yield Finding(
            "film_aspect",
            "warning",
            f"The film back's aspect is {film:.3f} and the image's {scene.image.aspect:.3f}: packages crop or "
            "pad the difference in different ways, and the field of view changes with it.",
            "Set the source fit to the way the source package inscribes the image in the film back.",
        )


def _scale(scene: Scene, baked: Baked) -> Iterator[Finding]:
    for node in (baked.node, *baked.parents):
        linear = node.local[:, :3, :3]
        with np.errstate(invalid="ignore"):
            lengths = np.linalg.norm(linear, axis=1)
            off = np.abs(lengths - 1) > _SCALE_MATTERS
        if not off.any():
            continue
        at = int(np.argmax(off.any(axis=1)))
        x, y, z = lengths[at]
        yield Finding(
            "scale",
            "warning" if node is not baked.node else "note",
            f"{node.path} is scaled by {x:g}, {y:g}, {z:g}"
            f"{'' if len(node.local) == 1 else f' at frame {format_frame(node.frames[at])}'}; packages "
            "disagree on what a scaled camera sees, so the scale is taken out of the camera's axes here "
            "(positions keep it).",
            "Nothing to do for the track; check that the distance travelled is the one you expect.",
        )
    if (baked.shear > _SHEAR_MATTERS).any():
        at = int(np.nanargmax(baked.shear))
        yield Finding(
            "shear",
            "warning",
            f"The camera's axes are not square to each other at frame {format_frame(baked.track.frames[at])} "
            f"(off by {np.degrees(np.arcsin(min(1.0, baked.shear[at]))):.2f} degrees), from a non-uniform "
            "scale above a rotation; the look axis is kept and the others are squared up.",
            "Remove the non-uniform scale from the parents in the source.",
        )


def _mirrored(scene: Scene, baked: Baked) -> Iterator[Finding]:
    if baked.mirrored.any():
        frame = format_frame(baked.track.frames[int(np.argmax(baked.mirrored))])
        yield Finding(
            "mirrored",
            "warning",
            f"The camera is mirrored by a negative scale at frame {frame}; no real camera is, and packages "
            "flip different axes of it.",
            "Remove the negative scale in the source; here the right axis is flipped back.",
        )


def _stillness(scene: Scene, baked: Baked) -> Iterator[Finding]:
    if is_moving(baked) or is_lens_moving(baked) or not np.isfinite(baked.track.position_m).all():
        return
    if len(baked.keys) == 1:
        seen = f"has a single sample, at frame {format_frame(baked.keys[0])}"
    elif len(baked.keys):
        seen = f"has {len(baked.keys)} samples that are all alike"
    else:
        seen = "has no animation"
    yield Finding(
        "still",
        "warning" if len(baked.keys) else "note",
        f"{baked.node.path} {seen}: if the shot's camera moves, this is a helper camera, or only one key came out.",
        "Check that the right camera was exported, with its parents, over the whole range.",
    )


def _range(scene: Scene, baked: Baked) -> Iterator[Finding]:
    frames = baked.track.frames
    if frames[0] < 0:
        yield Finding(
            "negative_frames",
            "warning",
            f"The camera starts at frame {format_frame(frames[0])}; some packages drop or refuse frames below 0.",
            "Renumber the shot to start at 0 or later before delivery.",
        )
    if len(baked.keys) > 1 and (
        baked.keys[0] > scene.first_frame + 0.5 or baked.keys[-1] < scene.last_frame - 0.5
    ):
        yield Finding(
            "shorter_than_file",
            "note",
            f"The camera's samples run from {format_frame(baked.keys[0])} to {format_frame(baked.keys[-1])} but the "
            f"file from {format_frame(scene.first_frame)} to {format_frame(scene.last_frame)}.",
            "Check that the whole range was exported.",
        )


def _grid(scene: Scene, baked: Baked) -> Iterator[Finding]:
    off = np.abs(baked.keys - np.round(baked.keys)) > 1e-4
    if off.any():
        yield Finding(
            "off_grid",
            "note",
            f"{int(off.sum())} of {len(baked.keys)} samples lie between frames (first at frame "
            f"{baked.keys[int(np.argmax(off))]:g}); whole frames are taken from the file's own interpolation.",
            "Export on whole frames, unless the extra samples are for motion blur.",
        )


def _rate(scene: Scene, baked: Baked) -> Iterator[Finding]:
    if scene.rate not in KNOWN_RATES:
        yield Finding(
            "odd_rate",
            "warning",
            f"The file runs at {rate_label(scene.rate)} frames a second, which is no rate in use: every frame "
            "keeps its pose, but its time will not fit the edit.",
            "Set the rate in the source package and export again.",
        )


def _guessed(scene: Scene, baked: Baked) -> Iterator[Finding]:
    words = {"up_axis": "the up axis", "metres_per_unit": "the unit", "rate": "the frame rate"}
    for key, why in scene.guesses.items():
        if key in words:
            yield Finding(
                f"guessed_{key}", "warning", f"For {words[key]}, {why}.",
                "Check it against the source package, and have the export state it.",
            )  # fmt: skip
        elif key == f"lens:{baked.node.path}":
            yield Finding(
                "default_lens", "warning",
                f"For {baked.node.path}, {why}: the field of view may not be the shot's.",
                "Check film back and focal length in the source package.",
            )  # fmt: skip


_ABOUT_ONE_CAMERA = {"orthographic"}

CHECKS: tuple[Check, ...] = (
    _numbers, _lens_size, _film_aspect, _scale, _mirrored, _stillness, _range, _grid, _rate, _guessed,
)  # fmt: skip
