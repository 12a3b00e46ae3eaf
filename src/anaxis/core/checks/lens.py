"""Checks of the lens: its size, its film back against the image, its planes, what animates."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.checks.subject import Check, Subject, moving_lens_channels
from anaxis.core.findings import Finding, remedy
from anaxis.core.scene.picture import picture_of, stated_aspect
from anaxis.core.time.rates import format_frame

# Film backs in use lie between the smallest phone sensors and large-format stills.
_FILM_WIDTH_MM = (4.0, 75.0)
# Focal length over film back width, from a very wide to a very long lens.
_FOCAL_PER_WIDTH = (0.25, 15.0)
_FACTORS = (10.0, 25.4, 100.0, 1000.0)
# What a film back is where nobody set one: the fallbacks of the file formats themselves.
_FALLBACKS_MM = {"usd": (20.955, 15.2908), "alembic": (36.0, 24.0)}
_DROPPED_BY = {
    "gltf": "by an extension of glTF: core glTF cannot animate a lens, and most readers drop the extension",
    "collada": "which COLLADA can store and most readers drop",
}
_CHANNEL_WORDS = {
    "focal_mm": "focal length", "film_width_mm": "film back width", "film_height_mm": "film back height",
    "offset_x_mm": "offset", "offset_y_mm": "offset", "squeeze": "squeeze", "focus_m": "focus distance", "fstop": "stop",
}  # fmt: skip


def _lens_size(subject: Subject) -> Iterator[Finding]:
    scene, lens = subject.scene, subject.track.lens
    width, height, focal = (float(v[0]) for v in (lens.film_width_mm, lens.film_height_mm, lens.focal_mm))
    low, high = _FILM_WIDTH_MM
    if not (np.isfinite([width, height, focal]).all() and min(width, height, focal) > 0):
        return
    if low <= width <= high:
        yield from _focal_alone(subject, width, focal)
        return
    # With a believable view the whole lens is off by one factor; otherwise only the film back is.
    whole_lens = _FOCAL_PER_WIDTH[0] <= focal / width <= _FOCAL_PER_WIDTH[1]
    factor = _likely_factor(width, focal, whole_lens)
    seen = f"The film back is {width:g} x {height:g} mm and the focal length {focal:g} mm"
    if factor is None:
        yield Finding(
            "film_back_size",
            "warning",
            f"{seen}, which is not a common size.",
            "Check the film back in the source package.",
            "Depth of field and every number typed from it will be wrong.",
            {"width_mm": width, "height_mm": height, "focal_mm": focal},
            node=subject.path,
        )
        return
    large, ratio = width > high, factor if width < low else 1 / factor
    unit = scene.convention.metres_per_unit
    reason = ""
    if scene.format == "usd" and whole_lens and abs(100 * unit * ratio - 1) < 0.01:
        reason = (
            f" The file is in units of {unit:g} m, where lens lengths must be written in tenths of that unit, "
            "but these look like plain millimetres."
        )
    effect = (
        "The field of view is right, but depth of field and packages that use the film back will be wrong."
        if whole_lens
        else "The field of view is wrong too."
    )
    what = "film back, focal length and offsets" if whole_lens else "the film back"
    yield Finding(
        "sensor_factor",
        "warning",
        f"{seen}: {'the lens is' if whole_lens else 'the film back is'} {factor:g} times too "
        f"{'large' if large else 'small'}.{reason}",
        f"{'Divide' if large else 'Multiply'} {what} by {factor:g}, which gives {width * ratio:.2f} x "
        f"{height * ratio:.2f} mm and {focal * (ratio if whole_lens else 1):.2f} mm.",
        effect,
        {"factor": factor, "width_mm": width, "height_mm": height, "focal_mm": focal},
        remedy("lens_factor", what="lens" if whole_lens else "film back", factor=ratio),
        subject.path,
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


def _focal_alone(subject: Subject, width_mm: float, focal_mm: float) -> Iterator[Finding]:
    """A believable film back with a focal length that no lens on it has."""
    low, high = _FOCAL_PER_WIDTH
    if low <= focal_mm / width_mm <= high:
        return
    large = focal_mm / width_mm > high
    ratios = [1 / f if large else f for f in _FACTORS]
    fitting = [r for r in ratios if low <= focal_mm * r / width_mm <= high]
    seen = f"The focal length is {focal_mm:g} mm on a film back {width_mm:g} mm wide"
    angle = float(np.degrees(2 * np.arctan(width_mm / 2 / focal_mm)))
    numbers = {"focal_mm": focal_mm, "width_mm": width_mm, "hfov_deg": angle}
    if not fitting:
        yield Finding(
            "focal_size", "warning", f"{seen}, a view of {angle:.3g} degrees, which no common lens has.",
            "Check the focal length in the source package.", "The picture will not match the shot.", numbers, None, subject.path,
        )  # fmt: skip
        return
    ratio = min(fitting, key=lambda r: abs(np.log(focal_mm * r / width_mm)))
    factor = 1 / ratio if large else ratio
    yield Finding(
        "focal_factor",
        "warning",
        f"{seen}, a view of {angle:.3g} degrees: the focal length is {factor:g} times too {'long' if large else 'short'}.",
        f"{'Divide' if large else 'Multiply'} the focal length by {factor:g}, which gives {focal_mm * ratio:.2f} mm.",
        "The field of view is wrong in every package.",
        {**numbers, "factor": factor},
        remedy("lens_factor", what="focal length", factor=ratio),
        subject.path,
    )


def _film_aspect(subject: Subject) -> Iterator[Finding]:
    lens, image = subject.track.lens, subject.image
    if image is None:
        return
    width, height = float(lens.film_width_mm[0]), float(lens.film_height_mm[0])
    with np.errstate(invalid="ignore", divide="ignore"):
        film = float((lens.squeeze * lens.film_width_mm / lens.film_height_mm)[0])
    if not (np.isfinite(film) and film > 0) or abs(film / image.aspect - 1) <= 0.005:
        return
    squeeze = float(lens.squeeze[0])
    matching = remedy("film_back", width_mm=width, height_mm=squeeze * width / image.aspect)
    numbers = {"film_aspect": film, "image_aspect": image.aspect, "width_mm": width, "height_mm": height}
    fallback = _FALLBACKS_MM.get(subject.scene.format)
    if fallback and np.allclose((width, height), fallback, rtol=1e-4):
        yield Finding(
            "default_film_back",
            "warning",
            f"The film back is {width:g} x {height:g} mm, which is the default of this file format, and its aspect"
            f" {film:.3f} is not that of the image, {image.aspect:.3f}.",
            "Set the film back that the shot was made with. Until then, the width stays and the height follows the image."
            "",
            "The field of view comes from a default film back.",
            numbers,
            matching,
            subject.path,
        )
        return
    yield Finding(
        "film_aspect",
        "warning",
        f"The film back's aspect is {film:.3f} and the image's {image.aspect:.3f}.",
        "Set the source fit that the source package uses. If the picture uses the whole width, change the film back to the aspect of the image."
        "",
        "Packages crop or pad the difference in different ways, and the field of view changes with it.",
        numbers,
        matching,
        subject.path,
    )


def _default_lens(subject: Subject) -> Iterator[Finding]:
    why = subject.scene.guesses.get(f"lens:{subject.path}")
    if why:
        lens = subject.track.lens
        width = float(lens.film_width_mm[0])
        yield Finding(
            "default_lens",
            "warning",
            f"Guess for the lens of {subject.path}: {why}.",
            "Check film back and focal length in the source package; if they are right, confirm the film back; if not, set it.",
            "The field of view may not match the shot.",
            {"width_mm": width, "focal_mm": float(lens.focal_mm[0])},
            remedy("film_back", width_mm=width, height_mm=float(lens.film_height_mm[0])),
            subject.path,
        )


# What the library of Alembic writes of a camera whose package states nothing: focus distance in the file's unit, and stop.
_ALEMBIC_FOCUS, _ALEMBIC_STOP = 5.0, 5.6


def _library_focus(subject: Subject) -> Iterator[Finding]:
    lens = subject.track.lens
    focus = lens.focus_m / subject.scene.convention.metres_per_unit
    unstated = np.allclose(focus, _ALEMBIC_FOCUS, rtol=1e-6) and np.allclose(lens.fstop, _ALEMBIC_STOP, rtol=1e-6)
    if subject.scene.format == "alembic" and unstated:
        yield Finding(
            "library_focus",
            "note",
            f"Focus distance {_ALEMBIC_FOCUS:g} units and stop {_ALEMBIC_STOP:g} on every frame: the Alembic library writes these when a package states none."
            "",
            "Check both in the source package. If they were not set, ignore depth of field.",
            "With the default, the focus is 5 units in front of the camera.",
            {"focus_m": float(lens.focus_m[0]), "fstop": float(lens.fstop[0])},
            node=subject.path,
        )


def _near_plane(subject: Subject) -> Iterator[Finding]:
    """A near clip that cuts a landmark off while it is in the picture."""
    track, marks = subject.track, subject.landmarks
    image = subject.image or Image(1920, 1080)
    near = track.lens.near_m
    if not len(marks) or not np.isfinite(near).any() or not np.isfinite(track.position_m).all():
        return
    with np.errstate(invalid="ignore", over="ignore"):
        seen, depth = projection_of(track, image, "width").project(marks.position_m)
        size = np.array([image.width_px, image.height_px])
        inside = ((seen >= 0) & (seen <= size)).all(axis=2) & (depth > 1e-3)
        cut = inside & (depth < near[:, None])
    if not cut.any():
        return
    frame, mark = np.unravel_index(int(np.argmax(cut)), cut.shape)
    least = float(depth[inside].min())
    yield Finding(
        "near_plane",
        "warning",
        f"The near clip is at {near[frame]:g} m and {marks.names[mark]} is {depth[frame, mark]:.3g} m away at frame "
        f"{format_frame(track.frames[frame])}, in the picture.",
        f"Move the near clip to {least / 2:.3g} m.",
        "Packages that use the near clip of the file cut off the set there.",
        {"near_m": float(near[frame]), "depth_m": float(depth[frame, mark]), "frame": float(track.frames[frame])},
        remedy("near_plane", near_m=float(f"{least / 2:.3g}")),
        subject.path,
    )


def _lens_moves(subject: Subject) -> Iterator[Finding]:
    """Lens animation that sits where most readers do not look for it, so that it is lost on the way."""
    carrier = _DROPPED_BY.get(subject.scene.format)
    if carrier is None:
        return
    moving = [k for k in moving_lens_channels(subject.track) if CHANNELS[k].framing]
    if moving:
        words = ", ".join(dict.fromkeys(_CHANNEL_WORDS[k] for k in moving))
        focal = subject.track.lens.focal_mm
        yield Finding(
            "lens_animation",
            "warning",
            f"The lens moves ({words} changes over the frames), {carrier}.",
            "Deliver USD, track JSON or column text, and check the lens on the last frame in the receiving package.",
            "Otherwise the picture matches on one frame only.",
            {"focal_from_mm": float(focal[0]), "focal_to_mm": float(focal[-1])},
            None,
            subject.path,
        )


def _size_of_aspect(subject: Subject) -> Iterator[Finding]:
    aspect = stated_aspect(subject.scene)
    if subject.image is not None or aspect is None:
        return
    taken = picture_of(subject.scene, None, None).image
    yield Finding(
        "image_from_aspect",
        "note",
        f"The file states a picture {aspect:.4g} times as wide as high, and no size: {taken.width_px} x {taken.height_px} px is assumed.",
        "Type the size in pixels on Lens.",
        "The proof measures in pixels of this size.",
        {"aspect": aspect},
        node=subject.path,
    )


CHECKS: tuple[Check, ...] = (
    _lens_size,
    _film_aspect,
    _size_of_aspect,
    _default_lens,
    _library_focus,
    _near_plane,
    _lens_moves,
)
