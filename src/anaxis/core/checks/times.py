"""Checks of frames and rate: the range, the grid the samples lie on, the rate, what was guessed."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from anaxis.core.checks.subject import Subject
from anaxis.core.findings import Check, Finding, remedy
from anaxis.core.scene import Scene
from anaxis.core.timing import KNOWN_RATES, format_frame, rate_label, rate_text

# What a guess is about, and what a wrong one does.
_GUESSED = {
    "up_axis": ("the up axis", "A wrong one lays the camera on its side."),
    "metres_per_unit": ("the unit", "A wrong one makes the move 10, 39 or 100 times too large or too small."),
    "rate": ("the frame rate", "A wrong one stretches the move in time."),
    "columns": ("the columns", "A wrong one sends the camera elsewhere: look at the path drawn."),
    "order": ("the order of the turns", "A wrong one tilts the camera wherever two angles are not zero."),
    "frames": ("the frame numbers", "The picture may be some frames late."),
}


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
            "negative_frames", "warning", f"The camera starts at frame {format_frame(first)}.",
            "Renumber the shot to start at 1 or later before delivery.",
            "Some packages drop or refuse frames below 0.", numbers, remedy("renumber", first=1), subject.path,
        )  # fmt: skip
    elif first == 0 and len(subject.track) > 1:
        yield Finding(
            "zero_first_frame", "note", "The camera starts at frame 0.",
            "Leave it where the shot counts from 0; else renumber it to start at 1.",
            "Packages that count from 1 show the picture one frame late, or drop the first.", numbers,
            remedy("renumber", first=1), subject.path,
        )  # fmt: skip


def _range(subject: Subject) -> Iterator[Finding]:
    keys, scene, wanted = subject.baked.keys, subject.scene, subject.expected
    if len(keys) > 1 and (keys[0] > scene.first_frame + 0.5 or keys[-1] < scene.last_frame - 0.5):
        yield Finding(
            "shorter_than_file", "note",
            f"The camera's samples run from {format_frame(keys[0])} to {format_frame(keys[-1])} but the file from "
            f"{format_frame(scene.first_frame)} to {format_frame(scene.last_frame)}.",
            "Check that the whole range was exported.", "Where there are no samples the camera is held still.",
            {"first": float(keys[0]), "last": float(keys[-1])}, None, subject.path,
        )  # fmt: skip
    if wanted.first_frame is None or wanted.last_frame is None:
        return
    first, last = float(subject.track.frames[0]), float(subject.track.frames[-1])
    if len(keys) > 1 and subject.track is subject.baked.track:
        first, last = max(first, float(keys[0])), min(last, float(keys[-1]))
    missing = []
    if first > wanted.first_frame:
        missing.append(_frames_words(wanted.first_frame, min(first, wanted.last_frame + 1) - 1))
    if last < wanted.last_frame:
        missing.append(_frames_words(max(last, wanted.first_frame - 1) + 1, wanted.last_frame))
    if missing:
        yield Finding(
            "shorter_than_shot", "warning",
            f"The shot runs from {format_frame(wanted.first_frame)} to {format_frame(wanted.last_frame)} and the camera from "
            f"{format_frame(first)} to {format_frame(last)}: {' and '.join(missing)} missing.",
            "Ask for the whole range; if only the numbering differs, renumber the camera to start where the shot does.",
            "Frames without samples are rendered with a camera that stands still.",
            {"first": first, "last": last, "shot_first": wanted.first_frame, "shot_last": wanted.last_frame},
            remedy("renumber", first=wanted.first_frame), subject.path,
        )  # fmt: skip


def _longer(subject: Subject) -> Iterator[Finding]:
    """More frames than the shot: handles, or a render range that is another."""
    wanted, track = subject.expected, subject.track
    if wanted.first_frame is None or wanted.last_frame is None:
        return
    first, last = float(track.frames[0]), float(track.frames[-1])
    before, after = max(0.0, wanted.first_frame - first), max(0.0, last - wanted.last_frame)
    if not (before or after) or first > wanted.last_frame or last < wanted.first_frame:
        return
    yield Finding(
        "longer_than_shot", "note",
        f"The shot runs from {format_frame(wanted.first_frame)} to {format_frame(wanted.last_frame)} and the camera from "
        f"{format_frame(first)} to {format_frame(last)}: {before:g} frames more before it and {after:g} behind it.",
        "Keep them where they are handles; else trim the camera to the shot.",
        "A render over the camera's range has more frames than the edit expects.",
        {"before": before, "after": after, "shot_first": wanted.first_frame, "shot_last": wanted.last_frame},
        remedy("trim", first=wanted.first_frame, last=wanted.last_frame), subject.path,
    )  # fmt: skip


def _frames_words(first: float, last: float) -> str:
    one = round(first) == round(last)
    return (
        f"frame {format_frame(first)} is"
        if one
        else f"frames {format_frame(first)} to {format_frame(last)} are"
    )


def _grid(subject: Subject) -> Iterator[Finding]:
    keys = subject.baked.keys
    off = np.abs(keys - np.round(keys)) > 1e-4
    if off.any():
        first = float(keys[int(np.argmax(off))])
        yield Finding(
            "off_grid", "note",
            f"{int(off.sum())} of {len(keys)} samples lie between frames (first at frame {first:g}).",
            "Export on whole frames, unless the extra samples are for motion blur.",
            "Whole frames are taken from the file's own interpolation.",
            {"count": int(off.sum()), "first": first}, None, subject.path,
        )  # fmt: skip
    steps = np.diff(keys)
    if len(steps) > 1 and steps.max() - steps.min() > 1e-3:
        usual = float(np.median(steps))
        odd = int(np.argmax(np.abs(steps - usual) > 1e-3))
        yield Finding(
            "uneven", "note",
            f"The samples are not evenly spaced: {usual:g} frames apart for the most part, {steps[odd]:g} after frame "
            f"{format_frame(keys[odd])}.",
            "Bake the camera on every frame in the source if it should move evenly there.",
            "Between samples each package draws the motion its own way.",
            {"usual": usual, "odd": float(steps[odd]), "frame": float(keys[odd])}, None, subject.path,
        )  # fmt: skip


def _rate(subject: Subject) -> Iterator[Finding]:
    rate, wanted = subject.track.rate, subject.expected.rate
    exact, stated = float(rate), subject.scene.stated_rate if rate == subject.scene.rate else None
    if rate not in KNOWN_RATES:
        nearest = min(KNOWN_RATES, key=lambda r: abs(float(r) - exact))
        yield Finding(
            "odd_rate", "warning", f"The file runs at {rate_label(rate)} frames a second, which is no rate in use.",
            f"Set the rate in the source package and export again, or take {rate_label(nearest)} here.",
            "Every frame keeps its pose, but its time will not fit the edit.",
            {"rate": exact}, remedy("correct", rate=rate_text(nearest)),
        )  # fmt: skip
    elif (
        stated is not None
        and rate.denominator != 1
        and abs(stated / exact - 1) > 1e-6
        and abs(stated / exact - 1) < 1e-3
    ):
        drift = abs(stated - exact) * 3600
        yield Finding(
            "rate_rounded", "note",
            f"The file writes its rate as {stated:g}, a rounded number; {rate_text(rate)} is taken.",
            "Nothing to do here; set the exact rate in the source where it can be set.",
            f"A package that takes {stated:g} as it stands is {drift:.1f} frames off after an hour.",
            {"stated": stated, "taken": exact},
        )  # fmt: skip
    if wanted is not None and wanted != rate:
        yield Finding(
            "rate_not_shot", "warning",
            f"The file runs at {rate_label(rate)} frames a second and the shot at {rate_label(wanted)}.",
            f"If every frame should keep its pose, take {rate_label(wanted)}.",
            "After a minute the picture and the edit are " f"{abs(exact - float(wanted)) * 60:.0f} frames apart.",
            {"rate": exact, "shot_rate": float(wanted)}, remedy("correct", rate=rate_text(wanted)),
        )  # fmt: skip


def _guessed(subject: Subject) -> Iterator[Finding]:
    for key, why in subject.scene.guesses.items():
        if key in _GUESSED:
            what, effect = _GUESSED[key]
            confirm = _CONFIRM.get(key)
            words = (
                "If it is right, confirm it; else correct it here."
                if confirm
                else "Correct it here, or have the export state it."
            )
            operation = remedy("correct", **{key: confirm(subject.scene)}) if confirm else None
            yield Finding(f"guessed_{key}", "warning", f"For {what}, {why}.", words, effect, {}, operation)


CHECKS: tuple[Check, ...] = (_first_frame, _range, _longer, _grid, _rate, _guessed)
