"""Checks of the motion itself: numbers, stillness, teleports, cuts, flips, gimbal nearness."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.camera.track import is_moving, unusable
from anaxis.core.checks.subject import Check, Subject, moving_lens_channels
from anaxis.core.findings import Finding, remedy
from anaxis.core.motion.cuts import LEAP_M, Steps, breaks_of, cuts_of, steps_of
from anaxis.core.space.rotation import NEAR_LOCK_DEG, angles_from_matrices
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats

_FLIP_DEG = 150.0


def _numbers(subject: Subject) -> Iterator[Finding]:
    track = subject.track
    found = unusable(track)
    if found is not None:
        finite = np.isfinite(track.position_m).all(axis=1) & np.isfinite(track.rotation).all(axis=(1, 2))
        fillable = found.code == "not_a_number" and bool(finite.any())
        yield Finding(
            "unusable_number", "error", f"{subject.scene.name}, {subject.path}, {found.what}.",
            found.mend[:1].upper() + found.mend[1:] + "." + (" Or interpolate these frames from their neighbours." if fillable else ""),
            "Some packages refuse such a file; others place the camera at the origin.",
            {"frames": int((~finite).sum())}, remedy("fill_gaps") if fillable else None, subject.path,
        )  # fmt: skip


def _stillness(subject: Subject) -> Iterator[Finding]:
    track, keys = subject.track, subject.baked.keys
    if is_moving(track) or moving_lens_channels(track) or not np.isfinite(track.position_m).all():
        return
    if subject.scene.format == "derived":  # nobody exported it
        return
    if len(keys) == 1:
        seen = f"has one sample, at frame {format_frame(keys[0])}"
    elif len(keys):
        seen = f"has {len(keys)} identical samples"
    else:
        seen = "has no animation"
    yield Finding(
        "still",
        "warning" if len(keys) else "note",
        f"{subject.path} {seen}.",
        "Check that the right camera was exported, with its parents, over the whole range.",
        "If the shot camera moves, this is a helper camera, or only one key was exported.",
        {"samples": len(keys)},
        None,
        subject.path,
    )


def _jumps(subject: Subject) -> Iterator[Finding]:
    track = subject.track
    steps = steps_of(track)
    if steps is None:
        return
    metres, degrees = steps
    found = breaks_of(track)
    marked = np.zeros(len(track)) if track.marked is None else track.marked
    strays = found.strays.tolist()
    if strays:
        yield _stray(subject, strays, steps)
    apart = {i for s in strays for i in (s, s + 1)}
    cuts = [i for i in cuts_of(track, found).tolist() if i not in apart]
    # A turn about where it stands, by all but a half one.
    flips = [
        i
        for i in cuts
        if degrees[i - 1] > _FLIP_DEG and metres[i - 1] < LEAP_M + 4 * _beside(metres, i - 1) and not marked[i]
    ]
    if flips:
        yield _flip(subject, flips, degrees)
    leaping = [i for i in cuts if i not in flips and i in found.pose and not marked[i]]
    if leaping:
        yield _leap(subject, leaping, cuts, steps)
    lens = [i for i in found.lens.tolist() if not marked[i]]
    if lens:
        yield _lens_change(subject, lens)
    undecided = [i for i in found.undecided.tolist() if not marked[i]]
    if undecided:
        yield _undecided(subject, undecided, steps)


def _more(count: int, what: str) -> str:
    return f"; {count - 1} more {what}" if count > 1 else ""


def _beside(steps: Floats, i: int) -> float:
    """The largest of the steps around step ``i``, itself left out."""
    around = np.concatenate([steps[max(0, i - 4) : i], steps[i + 1 : i + 5]])
    return float(around.max(initial=0.0))


def _stray(subject: Subject, strays: list[int], steps: Steps) -> Finding:
    frame, before = float(subject.track.frames[strays[0]]), strays[0] - 1
    return Finding(
        "teleport",
        "warning",
        f"At frame {format_frame(frame)} the camera jumps {steps.metres[before]:.3g} m and {steps.degrees[before]:.3g} "
        f"degrees away, and returns one frame later{_more(len(strays), 'such frames')}.",
        "Interpolate this frame from its neighbours.",
        "One such frame flashes in the picture and smears motion blur on both sides.",
        {"frame": frame, "jump_m": float(steps.metres[before]), "count": len(strays)},
        remedy("bridge", first=frame),
        subject.path,
    )


def _flip(subject: Subject, flips: list[int], degrees: Floats) -> Finding:
    frames, at = subject.track.frames, flips[0]
    return Finding(
        "flip",
        "warning",
        f"From frame {format_frame(frames[at - 1])} to {format_frame(frames[at])} the camera rotates by {degrees[at - 1]:.0f} "
        f"degrees without moving{_more(len(flips), 'times')}.",
        "Check the rotation there in the source: a look-at through the vertical, or an axis that flipped.",
        "The picture jumps without a cut, and the camera spins in packages that sample between frames.",
        {"frame": float(frames[at]), "turn_deg": float(degrees[at - 1]), "count": len(flips)},
        None,
        subject.path,
    )


def _leap(subject: Subject, leaping: list[int], cuts: list[int], steps: Steps) -> Finding:
    frames, at = subject.track.frames, leaping[0]
    first, last = _longest_between([i - 1 for i in cuts], frames)
    metres, degrees = float(steps.metres[at - 1]), float(steps.degrees[at - 1])
    near_m, near_deg = _beside(steps.metres, at - 1), _beside(steps.degrees, at - 1)
    beside = (
        "and is still on both sides"
        if near_m < 1e-6 and near_deg < 1e-4
        else f"while the neighbouring frames move by {near_m:.3g} m and {near_deg:.3g} degrees at most"
    )
    return Finding(
        "jump",
        "warning" if len(leaping) > 3 else "note",
        f"From frame {format_frame(frames[at - 1])} to {format_frame(frames[at])} the camera leaps {metres:.3g} m and "
        f"{degrees:.3g} degrees, {beside}{_more(len(leaping), 'times')}.",
        f"If it is a cut, trim to the longest piece between cuts, {format_frame(first)} to {format_frame(last)}; if not, check "
        "the keys there.",
        "Resampling must not interpolate across a cut.",
        {"frame": float(frames[at]), "jump_m": metres, "jump_deg": degrees, "count": len(leaping)},
        remedy("trim", first=first, last=last),
        subject.path,
    )


def _lens_change(subject: Subject, places: list[int]) -> Finding:
    track, at = subject.track, places[0]
    was, now = (float(track.lens.focal_mm[i]) for i in (at - 1, at))
    what = f"from {was:.4g} to {now:.4g} mm" if was != now else "in its film back, offset or squeeze"
    return Finding(
        "lens_change",
        "note",
        f"At frame {format_frame(track.frames[at])} the lens jumps, {what}{_more(len(places), 'times')}.",
        "If the lens was swapped, nothing to do: Anaxis does not interpolate across it. If this is a zoom, mark it as no cut on Time.",
        "A package that interpolates between keys shows focal lengths that were never shot.",
        {"frame": float(track.frames[at]), "focal_from_mm": was, "focal_to_mm": now, "count": len(places)},
        None,
        subject.path,
    )


def _undecided(subject: Subject, places: list[int], steps: Steps) -> Finding:
    frames, at = subject.track.frames, places[0]
    return Finding(
        "undecided_cut",
        "note",
        f"From frame {format_frame(frames[at - 1])} to {format_frame(frames[at])} the camera moves {steps.metres[at - 1]:.3g} m and "
        f"{steps.degrees[at - 1]:.3g} degrees, more than its neighbours: a cut or a fast move. Anaxis treats it as a move"
        f"{_more(len(places), 'such places')}.",
        "On Time, mark it as a cut or as no cut.",
        "Resampling interpolates a move, never a cut.",
        {"frame": float(frames[at]), "jump_m": float(steps.metres[at - 1]), "count": len(places)},
        remedy("cut", frame=float(frames[at]), way="a cut"),
        subject.path,
    )


def _drawn_through(subject: Subject) -> Iterator[Finding]:
    """A camera that was resampled over a place that may be a cut: what stands there now is neither side's motion."""
    before, track = subject.baked.track, subject.track
    steps = steps_of(before)
    if steps is None or track.rate == before.rate or len(track) == len(before):
        return
    since_first = (track.frames - track.frames[0]) / float(track.rate)
    marked = np.zeros(0) if track.marked is None else since_first[track.marked != 0]
    seconds = (before.frames - before.frames[0]) / float(before.rate)
    step = 1.5 / float(min(before.rate, track.rate))
    places = [i for i in breaks_of(before).undecided.tolist() if not (np.abs(marked - seconds[i]) < step).any()]
    if places:
        at = places[0]
        yield Finding(
            "undecided_cut",
            "warning",
            f"From frame {format_frame(before.frames[at - 1])} to {format_frame(before.frames[at])} of the file the camera moves "
            f"{steps.metres[at - 1]:.3g} m and {steps.degrees[at - 1]:.3g} degrees, more than its neighbours, and the retime interpolated it as a move"
            f"{_more(len(places), 'such places')}.",
            "If it is a cut, undo the retime, mark the cut on Time, and retime again; if it is a move, mark it as no cut.",
            "Otherwise the resampled camera shows a pose that belongs to neither side of the cut.",
            {"frame": float(before.frames[at]), "jump_m": float(steps.metres[at - 1]), "count": len(places)},
            None,
            subject.path,
        )


def _longest_between(cuts: list[int], frames: Floats) -> tuple[float, float]:
    """First and last frame of the longest piece; ``cuts`` are the places before each leap."""
    starts, ends = [0, *(i + 1 for i in cuts)], [*cuts, len(frames) - 1]
    best = int(np.argmax(np.array(ends) - np.array(starts)))
    return float(frames[starts[best]]), float(frames[ends[best]])


def _gimbal(subject: Subject) -> Iterator[Finding]:
    track, convention = subject.track, subject.scene.convention
    if not np.isfinite(track.rotation).all():
        return
    turned = convention.rotation_from_canonical(track.rotation)
    near = angles_from_matrices(turned, convention.order, convention.signs).near_lock
    if near.any():
        frame = float(track.frames[int(np.argmax(near))])
        yield Finding(
            "gimbal",
            "note",
            f"In rotation order {convention.order}, the middle angle is within {NEAR_LOCK_DEG:g} degrees of 90 at frame "
            f"{format_frame(frame)} ({int(near.sum())} of {len(track)} frames).",
            "The pose is right. If you type angles, use an order with another middle axis.",
            "Near 90 degrees the other two angles swing far for a small move, and packages that blend angles wobble.",
            {"frame": frame, "count": int(near.sum())},
            None,
            subject.path,
        )


CHECKS: tuple[Check, ...] = (_numbers, _stillness, _jumps, _drawn_through, _gimbal)
