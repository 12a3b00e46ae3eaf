"""Checks of the motion itself: numbers, stillness, teleports, cuts, flips, gimbal nearness."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.checks.subject import Subject, is_moving, moving_lens_channels
from anaxis.core.cuts import LEAP, LEAP_DEG, LEAP_M, leaps, steps_of
from anaxis.core.errors import BadInput
from anaxis.core.findings import Check, Finding, remedy
from anaxis.core.rotation import NEAR_LOCK_DEG, angles_from_matrices
from anaxis.core.timing import format_frame
from anaxis.core.track import require_usable
from anaxis.core.tree import angle_between_deg
from anaxis.core.typing import Floats

_FLIP_DEG = 150.0


def _numbers(subject: Subject) -> Iterator[Finding]:
    track = subject.track
    try:
        require_usable(track, f"{subject.scene.name}, {subject.path},")
    except BadInput as error:
        sentence, _, mend = error.sentence.rpartition(": ")
        finite = np.isfinite(track.position_m).all(axis=1) & np.isfinite(track.rotation).all(axis=(1, 2))
        fillable = "not a number" in sentence and bool(finite.any())
        yield Finding(
            "unusable_number", "error", sentence + ".",
            mend[:1].upper() + mend[1:] + (" Or draw those frames from their neighbours here." if fillable else ""),
            "One such number makes some packages refuse the file and others place the camera at the origin.",
            {"frames": int((~finite).sum())}, remedy("fill_gaps") if fillable else None, subject.path,
        )  # fmt: skip


def _stillness(subject: Subject) -> Iterator[Finding]:
    track, keys = subject.track, subject.baked.keys
    if is_moving(track) or moving_lens_channels(track) or not np.isfinite(track.position_m).all():
        return
    if len(keys) == 1:
        seen = f"has a single sample, at frame {format_frame(keys[0])}"
    elif len(keys):
        seen = f"has {len(keys)} samples that are all alike"
    else:
        seen = "has no animation"
    yield Finding(
        "still", "warning" if len(keys) else "note", f"{subject.path} {seen}.",
        "Check that the right camera was exported, with its parents, over the whole range.",
        "If the shot's camera moves, this is a helper camera, or only one key came out.",
        {"samples": len(keys)}, None, subject.path,
    )  # fmt: skip


def _jumps(subject: Subject) -> Iterator[Finding]:
    track = subject.track
    steps = steps_of(track)
    if steps is None:
        return
    metres, degrees = steps
    far = leaps(metres, LEAP_M)
    leaping = {*far.tolist(), *leaps(degrees, LEAP_DEG).tolist()}
    # One frame out and back: two leaps in a row whose ends nearly meet.
    outliers = [
        i + 1 for i in sorted(leaping) if i + 1 in leaping and _meet(subject, i, i + 2, metres, degrees)
    ]
    if outliers:
        frame = float(track.frames[outliers[0]])
        yield Finding(
            "teleport", "warning",
            f"At frame {format_frame(frame)} the camera jumps {metres[outliers[0] - 1]:.3g} m and {degrees[outliers[0] - 1]:.3g} "
            f"degrees away, and is back a frame later{f'; {len(outliers) - 1} more such frames' if len(outliers) > 1 else ''}.",
            "Draw that frame from its neighbours.",
            "One such frame is a flash in the picture, and smears motion blur on both sides.",
            {"frame": frame, "jump_m": float(metres[outliers[0] - 1]), "count": len(outliers)},
            remedy("bridge", first=frame), subject.path,
        )  # fmt: skip
    used = {i for o in outliers for i in (o - 1, o)}
    flips = [
        i
        for i in np.flatnonzero(degrees > _FLIP_DEG).tolist()
        if i not in used and metres[i] < max(LEAP_M, LEAP * np.median(metres))
    ]
    if flips:
        frame = float(track.frames[flips[0] + 1])
        yield Finding(
            "flip", "warning",
            f"From frame {format_frame(track.frames[flips[0]])} to {format_frame(frame)} the camera turns by {degrees[flips[0]]:.0f} "
            f"degrees where it stands{f'; {len(flips) - 1} more times' if len(flips) > 1 else ''}.",
            "Check the turn there in the source: a look-at through the vertical, or an axis that flipped.",
            "It is a cut in the picture that nobody made, and a spin for whoever samples between frames.",
            {"frame": frame, "turn_deg": float(degrees[flips[0]]), "count": len(flips)}, None, subject.path,
        )  # fmt: skip
    cuts = [i for i in far.tolist() if i not in used and i not in flips]
    if cuts:
        frame = float(track.frames[cuts[0] + 1])
        first, last = _longest_between(cuts, track.frames)
        yield Finding(
            "jump", "warning" if len(cuts) > 3 else "note",
            f"From frame {format_frame(track.frames[cuts[0]])} to {format_frame(frame)} the camera leaps {metres[cuts[0]]:.3g} m, "
            f"{metres[cuts[0]] / max(float(np.median(metres)), 1e-12):.0f} times its usual step"
            f"{f'; {len(cuts) - 1} more times' if len(cuts) > 1 else ''}.",
            f"If it is a cut, trim to the longest piece between cuts, {format_frame(first)} to {format_frame(last)}; if not, check "
            "the keys there.",
            "Resampling must not draw a line across a cut.",
            {"frame": frame, "jump_m": float(metres[cuts[0]]), "count": len(cuts)},
            remedy("trim", first=first, last=last), subject.path,
        )  # fmt: skip


def _longest_between(cuts: list[int], frames: Floats) -> tuple[float, float]:
    """First and last frame of the longest piece; ``cuts`` are the places before each leap."""
    starts, ends = [0, *(i + 1 for i in cuts)], [*cuts, len(frames) - 1]
    best = int(np.argmax(np.array(ends) - np.array(starts)))
    return float(frames[starts[best]]), float(frames[ends[best]])


def _meet(subject: Subject, before: int, after: int, metres: Floats, degrees: Floats) -> bool:
    track = subject.track
    if after >= len(track):
        return False
    gap = float(np.linalg.norm(track.position_m[after] - track.position_m[before]))
    turn = float(angle_between_deg(track.rotation[[before]], track.rotation[[after]])[0])
    return gap < max(0.2 * metres[before], 4 * float(np.median(metres))) and turn < max(
        0.2 * degrees[before], 4 * float(np.median(degrees)), 1e-3
    )


def _gimbal(subject: Subject) -> Iterator[Finding]:
    track, convention = subject.track, subject.scene.convention
    if not np.isfinite(track.rotation).all():
        return
    turned = convention.rotation_from_canonical(track.rotation)
    near = angles_from_matrices(turned, convention.order, convention.signs).near_lock
    if near.any():
        frame = float(track.frames[int(np.argmax(near))])
        yield Finding(
            "gimbal", "note",
            f"Turned in the order {convention.order}, the middle angle is within {NEAR_LOCK_DEG:g} degrees of 90 at frame "
            f"{format_frame(frame)} ({int(near.sum())} of {len(track)} frames).",
            "Nothing to do for the pose; where angles are typed, use an order whose middle axis is another one.",
            "Near there the other two angles swing far for a small move, and packages that blend angles wobble.",
            {"frame": frame, "count": int(near.sum())}, None, subject.path,
        )  # fmt: skip


CHECKS: tuple[Check, ...] = (_numbers, _stillness, _jumps, _gimbal)
