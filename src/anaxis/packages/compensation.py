"""Compensation: a camera changed before it is written so that it is right after a package's habits.

Every habit that can be undone is undone here, the last one first. What cannot be undone (a lens animation
that will be dropped) is said, with what to do there instead.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.channels import FRAMING
from anaxis.core.camera.lens import Image, used_rectangle
from anaxis.core.camera.track import Track
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.scene.tree import roll_deg
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.time.rates import format_frame, parse_rate
from anaxis.core.typing import Floats
from anaxis.packages.habits import HABITS, about_axis, camera_turn, in_order, reordered, signed_channels

Params = dict[str, Any]
_STILL = 1e-9


@dataclass(frozen=True, eq=False)
class Sending:
    """A camera about to be written, with the landmarks ``marks_m`` (k, m, 3) that go in its file: the package's
    convention, the axes of the file and what it says of them.

    ``intended`` (n,) are the frames on which the receiver is to see the samples; ``notes`` and ``cannot`` say
    what was done about each habit and what could not be.
    """

    track: Track
    intended: Floats
    convention: Convention
    axes: Convention
    image: Image
    fit: str
    file_up: str | None
    file_unit_m: float | None
    marks_m: Floats = field(default_factory=lambda: np.zeros((1, 0, 3)))
    notes: tuple[str, ...] = ()
    cannot: tuple[str, ...] = ()


def compensated(sending: Sending, habits: list[tuple[str, Params]]) -> Sending:
    """The camera to write for a package with these habits."""
    for code, params in reversed(in_order(habits)):
        before = sending
        sending = _UNDO[code](sending, params)
        if sending.track is not before.track:
            said = HABITS[code].says(params)
            sending = replace(
                sending, notes=(*sending.notes, f"The package {said}: the file makes up for it.")
            )
    return sending


def _moved(s: Sending, position_m: Floats, rotation: Floats) -> Sending:
    return replace(s, track=replace(s.track, position_m=position_m, rotation=rotation))


def _turned(s: Sending, turn: Floats) -> Sending:
    """The whole file turned about the origin."""
    moved = _moved(s, s.track.position_m @ turn.T, turn @ s.track.rotation)
    return replace(moved, marks_m=s.marks_m @ turn.T)


def _lens(s: Sending, **channels: Floats) -> Sending:
    return replace(s, track=replace(s.track, lens=replace(s.track.lens, **channels)))


def _not(s: Sending, why: str) -> Sending:
    return replace(s, cannot=(*s.cannot, why))


def _up_axis(s: Sending, p: Params) -> Sending:
    if s.file_up is None or s.file_up == p["up"]:
        return s
    return _turned(s, (UP_AXES[p["up"]].T @ UP_AXES[s.file_up]).T)


def _scaled(s: Sending, factor: float) -> Sending:
    if factor == 1.0:
        return s
    lens = {k: getattr(s.track.lens, k) * factor for k in ("focus_m", "near_m", "far_m")}
    made = _lens(_moved(s, s.track.position_m * factor, s.track.rotation), **lens)
    return replace(made, marks_m=s.marks_m * factor)


def _unit(s: Sending, p: Params) -> Sending:
    return s if s.file_unit_m is None else _scaled(s, s.file_unit_m / p["metres_per_unit"])


def _shifted(s: Sending, p: Params) -> Sending:
    back = s.convention.position_to_canonical(np.array([p["x"], p["y"], p["z"]]))
    return replace(_moved(s, s.track.position_m - back, s.track.rotation), marks_m=s.marks_m - back)


def _mirrored(s: Sending, p: Params) -> Sending:
    """A mirror is its own inverse."""
    flip = np.eye(3)
    flip["XYZ".index(p["axis"]), "XYZ".index(p["axis"])] = -1.0
    flip = s.convention.world.T @ flip @ s.convention.world
    made = _moved(s, s.track.position_m @ flip, flip @ s.track.rotation @ np.diag([-1.0, 1.0, 1.0]))
    return replace(made, marks_m=s.marks_m @ flip)


def _halved(s: Sending, _: Params) -> Sending:
    """What gives the pose when it is applied twice: half the turn, and the place from which that leads on.

    A file's camera has no parent, so its own transform is the topmost, in the file's numbers W R C^T; as a
    move of canonical space that is R A with A = C^T W. Twice that on X asks for X A X = R: X A is the root
    of R A, and (X A + 1) p' = p.
    """
    between = s.axes.camera.T @ s.axes.world
    half = Rotation.from_rotvec(Rotation.from_matrix(s.track.rotation @ between).as_rotvec() / 2).as_matrix()
    place: Floats = np.asarray(
        np.linalg.solve(half + np.eye(3), s.track.position_m[:, :, None])[:, :, 0], dtype=np.float64
    )
    # A landmark's transform is a move alone, and half of it twice is the whole.
    return replace(_moved(s, place, half @ between.T), marks_m=s.marks_m / 2)


def _rate(s: Sending, p: Params) -> Sending:
    rate = parse_rate(str(p["rate"]))
    if rate == s.track.rate:
        return s
    return replace(s, track=replace(s.track, rate=rate))


def _renumbered(s: Sending, first: float, why: str) -> Sending:
    moved = first - s.intended[0]
    if moved == 0:
        return s
    note = f"Frame {format_frame(s.intended[0])} here is frame {format_frame(first)} there, because the package {why}."
    track = replace(s.track, frames=s.track.frames + moved)
    return replace(s, track=track, intended=s.intended + moved, notes=(*s.notes, note))


def _no_negative(s: Sending, p: Params) -> Sending:
    return _renumbered(s, 0.0, HABITS["no_negative"].says(p)) if s.intended[0] < 0 else s


def _moves(s: Sending) -> bool:
    t = s.track
    return bool(
        np.ptp(t.position_m, axis=0).max() > _STILL
        or np.ptp(t.rotation, axis=0).max() > _STILL
        or _lens_moves(s)
    )


def _lens_moves(s: Sending) -> bool:
    return any(np.ptp(getattr(s.track.lens, k)) > _STILL for k in FRAMING)


def _only_first(s: Sending, _: Params) -> Sending:
    if not _moves(s):
        return s
    return _not(
        s,
        "The package takes only the first frame: key the other frames there by hand, from the numbers of 'anaxis values'.",
    )


def _first_keys(s: Sending, p: Params) -> Sending:
    count = int(p["count"])
    if len(s.track) <= count:
        return s
    return _not(
        s,
        f"The package takes only the keys of the first {count} frames: hand the shot over in parts of at most {count} frames.",
    )


def _film_factor(s: Sending, p: Params) -> Sending:
    lens, f = s.track.lens, p["factor"]
    return _lens(s, film_width_mm=lens.film_width_mm / f, film_height_mm=lens.film_height_mm / f)


def _film_default(s: Sending, p: Params) -> Sending:
    """The field of view of the default film back made right by the focal length; offsets go along."""
    lens, n = s.track.lens, len(s.track)
    ours = lens.used(s.image, s.fit)
    theirs = used_rectangle(np.full(n, p["width_mm"]), np.full(n, p["height_mm"]), 1.0, s.image, s.fit)
    ratio = theirs.width_mm / ours.width_mm
    if not np.allclose(theirs.height_mm / ours.height_mm, ratio, rtol=1e-6):
        return _not(
            s, f"The package leaves its film back at {p['width_mm']:g} x {p['height_mm']:g} mm, whose picture has other proportions: "
            f"type {lens.film_width_mm[0]:.4f} x {lens.film_height_mm[0]:.4f} mm there.",
        )  # fmt: skip
    return _lens(
        s, focal_mm=lens.focal_mm * ratio, film_width_mm=np.full(n, p["width_mm"]), film_height_mm=np.full(n, p["height_mm"]),
        offset_x_mm=lens.offset_x_mm * ratio, offset_y_mm=lens.offset_y_mm * ratio, squeeze=np.ones(n),
    )  # fmt: skip


def _view(s: Sending, _: Params) -> Sending:
    lens, used = s.track.lens, s.track.lens.used(s.image, s.fit)
    return _lens(s, focal_mm=lens.focal_mm * used.height_mm / used.width_mm)


def _no_lens_animation(s: Sending, _: Params) -> Sending:
    if not _lens_moves(s):
        return s
    focal = s.track.lens.focal_mm
    return _not(
        s, f"The package drops the lens animation: key the focal length there, {focal[0]:.4f} mm at frame "
        f"{format_frame(s.intended[0])} to {focal[-1]:.4f} mm at frame {format_frame(s.intended[-1])} (all frames: 'anaxis values').",
    )  # fmt: skip


def _no_offsets(s: Sending, _: Params) -> Sending:
    lens = s.track.lens
    if max(np.abs(lens.offset_x_mm).max(), np.abs(lens.offset_y_mm).max()) < _STILL:
        return s
    return _not(
        s,
        f"The package drops the offsets: type {lens.offset_x_mm[0]:.4f} mm right and {lens.offset_y_mm[0]:.4f} mm up there.",
    )


def _channels(s: Sending, p: Params) -> Sending:
    c, track = s.convention, s.track
    order, signs = signed_channels(p["position"])
    place, old = np.empty_like(track.position_m), c.position_from_canonical(track.position_m)
    place[:, order] = old * signs
    order, signs = signed_channels(p["rotation"])
    angles = angles_from_matrices(c.rotation_from_canonical(track.rotation), c.order, c.signs).deg
    sent = np.empty_like(angles)
    sent[:, order] = angles * signs
    return _moved(
        s,
        c.position_to_canonical(place),
        c.rotation_to_canonical(matrices_from_angles(sent, c.order, c.signs)),
    )


def _snap(s: Sending, _: Params) -> Sending:
    if (s.track.frames == np.round(s.track.frames)).all():
        return s
    return _not(
        s, "The package moves samples between frames to whole frames: bake the camera on whole frames for it."
    )


def _no_roll(s: Sending, _: Params) -> Sending:
    rolled = float(np.abs(roll_deg(s.track.rotation)).max())
    return (
        s
        if rolled < 1e-6
        else _not(
            s,
            f"The package levels the horizon, and the camera rolls by up to {rolled:.2f} degrees: key the roll there.",
        )
    )


_UNDO: dict[str, Callable[[Sending, Params], Sending]] = {
    "up_axis": _up_axis,
    "unit": _unit,
    "world_turn": lambda s, p: _turned(s, about_axis(p["axis"], p["angle_deg"], s.convention).T),
    "world_shift": _shifted,
    "look_axis": lambda s, p: _moved(
        s, s.track.position_m, s.track.rotation @ camera_turn(p["look"], p["up"]).T
    ),
    "mirror": _mirrored,
    "scale": lambda s, p: _scaled(s, 1.0 / p["factor"]),
    "parents": lambda s, p: s,  # deliveries have no parents
    "twice": _halved,
    "frame_offset": lambda s, p: replace(s, track=replace(s.track, frames=s.track.frames - p["frames"])),
    "own_rate": _rate,
    "own_first": lambda s, p: _renumbered(s, p["first"], HABITS["own_first"].says(p)),
    "no_negative": _no_negative,
    "only_first": _only_first,
    "first_keys": _first_keys,
    "film_factor": _film_factor,
    "film_default": _film_default,
    "focal_factor": lambda s, p: _lens(s, focal_mm=s.track.lens.focal_mm / p["factor"]),
    "vfov_as_hfov": _view,
    "no_lens_animation": _no_lens_animation,
    "no_offsets": _no_offsets,
    "channels": _channels,
    "rotation_order": lambda s, p: _moved(
        s, s.track.position_m, reordered(s.track.rotation, p["read"], p["written"], s.convention)
    ),
    "snap": _snap,
    "no_roll": _no_roll,
}
assert set(_UNDO) == set(HABITS)
