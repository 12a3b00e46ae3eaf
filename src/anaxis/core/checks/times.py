"""Checks of frames and rate: the range, the grid the samples lie on, the rate, what was guessed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from fractions import Fraction

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.checks.subject import Check, Expected, Subject
from anaxis.core.findings import Finding, remedy
from anaxis.core.recipe.model import Work
from anaxis.core.scene.bake import Baked
from anaxis.core.scene.nodes import Scene
from anaxis.core.time.rates import KNOWN_RATES, format_frame, rate_label, rate_text

# What a guess is about, and what a wrong one does.
_GUESSED = {
    "up_axis": ("the up axis", "A wrong up axis lays the camera on its side."),
    "metres_per_unit": ("the unit", "A wrong unit makes the move 10, 39 or 100 times too large or too small."),
    "rate": ("the frame rate", "A wrong rate stretches the move in time."),
    "columns": ("the columns", "Wrong columns give a wrong path: check the drawing."),
    "order": ("the rotation order", "A wrong order tilts the camera wherever two angles are not zero."),
    "frames": ("the frame numbers", "The picture may be late by some frames."),
}

# What against_shot says.
OF_THE_SHOT = ("shorter_than_shot", "longer_than_shot", "rate_not_shot")


# A guess that is right is confirmed by saying the same.
_CONFIRM: dict[str, Callable[[Scene], object]] = {
    "up_axis": lambda scene: scene.convention.up_axis,
    "metres_per_unit": lambda scene: scene.convention.metres_per_unit,
    "rate": lambda scene: rate_text(scene.rate),
}


def _first_frame(subject: Subject) -> Iterator[Finding]:
    first = float(subject.track.frames[0])
    numbers = {"first_frame": first}
    if first < 0:
        yield Finding(
            "negative_frames",
            "warning",
            f"The camera starts at frame {format_frame(first)}.",
            "Renumber the shot to start at 1 or later before delivery.",
            "Some packages drop or refuse frames below 0.",
            numbers,
            remedy("renumber", first=1),
            subject.path,
        )
    elif first == 0 and len(subject.track) > 1:
        yield Finding(
            "zero_first_frame",
            "note",
            "The camera starts at frame 0.",
            "If the shot counts from 0, leave it; if not, renumber the camera to start at 1.",
            "Packages that count from 1 show the picture one frame late, or drop the first.",
            numbers,
            remedy("renumber", first=1),
            subject.path,
        )


def _range(subject: Subject) -> Iterator[Finding]:
    keys, scene = subject.baked.keys, subject.scene
    if len(keys) > 1 and (keys[0] > scene.first_frame + 0.5 or keys[-1] < scene.last_frame - 0.5):
        yield Finding(
            "shorter_than_file",
            "note",
            f"The camera's samples run from {format_frame(keys[0])} to {format_frame(keys[-1])} but the file from "
            f"{format_frame(scene.first_frame)} to {format_frame(scene.last_frame)}.",
            "Check that the whole range was exported.",
            "On frames without samples the camera is held still.",
            {"first": float(keys[0]), "last": float(keys[-1])},
            None,
            subject.path,
        )


def held_range(track: Track, baked: Baked) -> tuple[float, float]:
    """First and last frame on which a camera is known: its own, without those of the file that only hold a sample."""
    first, last = float(track.frames[0]), float(track.frames[-1])
    keys = baked.keys
    if len(keys) > 1 and track is baked.track:
        return max(first, float(keys[0])), min(last, float(keys[-1]))
    return first, last


def _of_the_shot(subject: Subject) -> Iterator[Finding]:
    track = subject.track
    whole = (float(track.frames[0]), float(track.frames[-1]))
    yield from against_shot(subject.expected, whole, held_range(track, subject.baked), track.rate, subject.path)


def against_shot(
    wanted: Expected, whole: tuple[float, float], held: tuple[float, float], rate: Fraction, path: str
) -> Iterator[Finding]:
    """Where a camera is not as its shot is expected to be; its frames ``whole``, those with samples ``held``."""
    if wanted.first_frame is not None and wanted.last_frame is not None:
        yield from _shorter(wanted.first_frame, wanted.last_frame, held, path)
        yield from _longer(wanted.first_frame, wanted.last_frame, whole, path)
    if wanted.rate is not None and wanted.rate != rate:
        apart = abs(float(rate) - float(wanted.rate)) * 60
        yield Finding(
            "rate_not_shot",
            "warning",
            f"The file runs at {rate_label(rate)} frames a second and the shot at {rate_label(wanted.rate)}.",
            f"If every frame should keep its pose, use {rate_label(wanted.rate)}.",
            f"After a minute the picture and the edit are {apart:.0f} frames apart.",
            {"rate": float(rate), "shot_rate": float(wanted.rate)},
            remedy("correct", rate=rate_text(wanted.rate)),
        )


def _shorter(shot_first: float, shot_last: float, held: tuple[float, float], path: str) -> Iterator[Finding]:
    first, last = held
    missing = []
    if first > shot_first:
        missing.append(_frames_words(shot_first, min(first, shot_last + 1) - 1))
    if last < shot_last:
        missing.append(_frames_words(max(last, shot_first - 1) + 1, shot_last))
    if missing:
        yield Finding(
            "shorter_than_shot",
            "warning",
            f"The shot runs from {format_frame(shot_first)} to {format_frame(shot_last)} and the camera from "
            f"{format_frame(first)} to {format_frame(last)}: {' and '.join(missing)} missing.",
            "Export the whole range. If only the numbering differs, renumber the camera to start with the shot.",
            "Frames without samples render with a still camera.",
            {"first": first, "last": last, "shot_first": shot_first, "shot_last": shot_last},
            remedy("renumber", first=shot_first),
            path,
        )


def _longer(shot_first: float, shot_last: float, whole: tuple[float, float], path: str) -> Iterator[Finding]:
    """More frames than the shot: handles, or a render range that is another."""
    first, last = whole
    before, after = max(0.0, shot_first - first), max(0.0, last - shot_last)
    if not (before or after) or first > shot_last or last < shot_first:
        return
    yield Finding(
        "longer_than_shot",
        "note",
        f"The shot runs from {format_frame(shot_first)} to {format_frame(shot_last)} and the camera from "
        f"{format_frame(first)} to {format_frame(last)}: {before:g} more frames before and {after:g} after the shot.",
        "If they are handles, keep them; if not, trim the camera to the shot.",
        "A render of the whole camera has more frames than the edit expects.",
        {"before": before, "after": after, "shot_first": shot_first, "shot_last": shot_last},
        remedy("trim", first=shot_first, last=shot_last),
        path,
    )


def _frames_words(first: float, last: float) -> str:
    one = round(first) == round(last)
    return f"frame {format_frame(first)} is" if one else f"frames {format_frame(first)} to {format_frame(last)} are"


def _grid(subject: Subject) -> Iterator[Finding]:
    keys = subject.baked.keys
    off = np.abs(keys - np.round(keys)) > 1e-4
    if off.any():
        first = float(keys[int(np.argmax(off))])
        yield Finding(
            "off_grid",
            "note",
            f"{int(off.sum())} of {len(keys)} samples are between frames (first at frame {first:g}).",
            "Export on whole frames, unless the extra samples are for motion blur.",
            "Anaxis samples whole frames with the interpolation of the file.",
            {"count": int(off.sum()), "first": first},
            None,
            subject.path,
        )
    steps = np.diff(keys)
    if len(steps) > 1 and steps.max() - steps.min() > 1e-3:
        usual = float(np.median(steps))
        odd = int(np.argmax(np.abs(steps - usual) > 1e-3))
        yield Finding(
            "uneven",
            "note",
            f"The samples are not evenly spaced: {usual:g} frames apart mostly, {steps[odd]:g} after frame "
            f"{format_frame(keys[odd])}.",
            "Bake the camera on every frame in the source if it should move evenly there. If a tracker recorded it, open it as a recording.",
            "Each package interpolates between samples in its own way.",
            {"usual": usual, "odd": float(steps[odd]), "frame": float(keys[odd])},
            None,
            subject.path,
        )


def _rate(subject: Subject) -> Iterator[Finding]:
    rate = subject.track.rate
    exact, stated = float(rate), subject.scene.stated_rate if rate == subject.scene.rate else None
    if rate not in KNOWN_RATES:
        nearest = min(KNOWN_RATES, key=lambda r: abs(float(r) - exact))
        yield Finding(
            "odd_rate",
            "warning",
            f"The file runs at {rate_label(rate)} frames/s, which is not a common rate.",
            f"Set the rate in the source package and export again, or use {rate_label(nearest)} here.",
            "Every frame keeps its pose, but its time will not fit the edit.",
            {"rate": exact},
            remedy("correct", rate=rate_text(nearest)),
        )
    elif (
        stated is not None
        and rate.denominator != 1
        and abs(stated / exact - 1) > 1e-6
        and abs(stated / exact - 1) < 1e-3
    ):
        drift = abs(stated - exact) * 3600
        yield Finding(
            "rate_rounded",
            "note",
            f"The file states the rate as {stated:g}, a rounded number; Anaxis uses {rate_text(rate)}.",
            "Nothing to do here. Set the exact rate in the source if possible.",
            f"A package that takes {stated:g} unchanged is {drift:.1f} frames off after an hour.",
            {"stated": stated, "taken": exact},
        )


def _guessed(subject: Subject) -> Iterator[Finding]:
    for key, why in subject.scene.guesses.items():
        if key in _GUESSED:
            what, effect = _GUESSED[key]
            confirm = _CONFIRM.get(key)
            words = (
                "If it is right, confirm it; if not, correct it here."
                if confirm
                else "Correct it here, or set it in the export."
            )
            operation = remedy("correct", **{key: confirm(subject.scene)}) if confirm else None
            yield Finding(f"guessed_{key}", "warning", f"Guess for {what}: {why}.", words, effect, {}, operation)


CHECKS: tuple[Check, ...] = (_first_frame, _range, _of_the_shot, _grid, _rate, _guessed)


def stated_range(work: Work) -> tuple[float, float] | None:
    """The first and last frame that a file states, where they lie beyond all samples in it: that many frames are owed, unless
    somebody says another range. None where the file's range is that of its samples, and where the recipe changed the camera's frames."""
    scene, baked = work.scene, work.baked
    if (
        baked is None
        or scene.sampled is None
        or (work.done.frames[0], work.done.frames[-1]) != (baked.track.frames[0], baked.track.frames[-1])
    ):
        return None
    first, last = scene.sampled
    beyond = scene.first_frame < first - 0.5 or scene.last_frame > last + 0.5
    return (scene.first_frame, scene.last_frame) if beyond else None
