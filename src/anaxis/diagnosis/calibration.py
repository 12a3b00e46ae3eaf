"""Calibration: an unknown package's profile learned from a made camera and what arrived of it.

A camera that exercises every axis, the lens and the numbering is opened there beside a few named points. Three
things come back: the camera's numbers on some frames, where the points stand in the package's numbers, and
where some of them are seen in its picture. The points give the world's axes and unit; the numbers give order,
signs and the camera's axes by holding every possibility against the pixels; the camera that is then there is
held against the one that was sent, and what differs is the package's habits (:mod:`anaxis.diagnosis.diagnose`).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from anaxis.core.camera.track import on_common_frames, require_usable
from anaxis.core.errors import BadInput
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import about_axis
from anaxis.core.time.rates import rate_text
from anaxis.diagnosis.calibration_axes import Target, axes_document, camera_of, track_of, world_of
from anaxis.diagnosis.calibration_form import Returned
from anaxis.diagnosis.calibration_kit import IMAGE, STATED, made_camera
from anaxis.diagnosis.case import Apart
from anaxis.diagnosis.diagnose import EXPLAINED_PX, Diagnosis, diagnose
from anaxis.diagnosis.noise import decimals_in, of_decimals
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import HABITS, arrived, in_order
from anaxis.packages.model import Profile, profile_from_dict

Causes = tuple[tuple[str, dict[str, Any]], ...]


@dataclass(frozen=True, eq=False)
class Learned:
    """A profile with how sure each part of it is (0 to 1), and what a second round would settle."""

    profile: Profile
    confidence: dict[str, float]
    residual_px: float
    second_round: tuple[str, ...]
    explained: bool
    diagnosis: Diagnosis


def learned(
    returned: Returned, key: str, label: str, second: Returned | None = None, third: Returned | None = None
) -> Learned:
    """The profile of the package that filled in the form, or the forms. Raises BadInput where its points fit no axes."""
    world, unit, off = world_of(returned)
    best, rivals = camera_of(returned, world, unit)
    convention, fit, residual = best
    fits = sorted({f for _, f in rivals})
    if third is not None:
        fit, fits = _fit_of(third, convention, fits)
    track = track_of(returned, convention)
    require_usable(track, "The returned camera")
    sent = made_camera()
    found = diagnose(sent, track, returned.image, fit, convention, typed=True)
    causes = found.explanations[0].causes if found.explained else ()
    ways = _as_well(causes, convention) if found.explained and returned.format_key in STATED else [causes]
    if second is not None:
        ways = _by_the_second(ways, second, convention, fit)
    if ways:
        causes = ways[0]
    document = {
        "key": key, "label": label, "world": axes_document(convention.world), "camera": axes_document(convention.camera), "metres_per_unit": convention.metres_per_unit,
        "rotation": {"order": convention.order, "signs": list(convention.signs)}, "lens": {"fit": fit}, "time": {"rate": rate_text(returned.rate)},
        "habits": [{"code": c, **p} for c, p in in_order(list(causes))],
    }  # fmt: skip
    readings = {r[0] for r in rivals}
    few = _decimals_of(returned)
    lets_go = 1.5 * 10.0**-few * unit if few is not None else 1e-6
    asked = _second_round(returned, found, readings, fits, ways, second is not None)
    confidence = {
        "world": 1.0 if off <= max(1e-6, lets_go) else float(np.clip(1e-3 / off, 0, 0.99)),
        "unit": 1.0 if off <= max(1e-6, lets_go) else float(np.clip(1e-3 / off, 0, 0.99)),
        "camera and rotation": (1.0 if residual < 0.5 else float(np.clip(1 / residual, 0, 0.9)))
        / max(1, len(readings)),
        "fit": 1.0 / max(1, len(fits)),
        "habits": (1.0 if found.explained and not asked else 0.8 if found.explained else 0.2) / max(1, len(ways))
        if ways
        else 0.1,
    }
    return Learned(
        profile_from_dict(document, "the calibrated profile"),
        confidence,
        residual,
        tuple(asked),
        found.explained and bool(ways),
        found,
    )


def _second_round(
    returned: Returned, found: Diagnosis, readings: set[str], fits: list[str], ways: list[Causes], had_second: bool
) -> list[str]:
    """What is not settled yet, each with the file or the numbers that would settle it."""
    asked = []
    if len(readings) > 1:
        asked.append(
            f"the rotations: {len(readings)} ways to read the angles fit equally well; fill in more frames of calibration, with more pixels on each"
        )
    if len(fits) > 1:
        asked.append(
            f"how it fits the image: {' or '.join(fits)} fit equally well; open calibration_third and fill in return_third.json"
        )
    if len(returned.points) < 4:
        asked.append("the world's axes: place a fourth point outside the plane of the other three")
    if not ways and had_second:
        asked.append(
            "its habits in general: the return of calibration_second fits no explanation of calibration; check its numbers"
        )
    elif len(ways) > 1:
        said = " or ".join(sorted({_words(way) for way in ways}))
        asked.append(
            f"whether it follows the unit and up axis of a file ({said}): open calibration_second and fill in return_second.json"
            if not had_second
            else f"its habits ({said}): both forms fit each of them; fill in more frames of calibration_second"
        )
    if not found.explained:
        none = (
            "the returned frames have other numbers than those sent, and no known cause explains them"
            if not len(found.frames)
            else "no known cause explains the returned camera"
        )
        asked.append(f"other habits: {found.explanations[0].sentence if found.explanations else none}")
    elif returned.frames[-1] - returned.frames[0] < len(made_camera()) - 1.5:
        asked.append("whether it reads later frames: fill in the last frame of the camera too")
    return asked


def _words(causes: Causes) -> str:
    parts = [HABITS[c].says(p) for c, p in causes if c in ("scale", "unit", "world_turn", "up_axis")]
    return "it " + " and ".join(parts) if parts else "it follows them"


def _as_well(causes: Causes, convention: Convention) -> list[Causes]:
    """The causes, and those that do the same to a file in metres with Y up and something else to others."""
    plain = [c for c in causes if c[0] not in ("scale", "world_turn")]
    scale = [c for c in causes if c[0] == "scale"]
    turn = [c for c in causes if c[0] == "world_turn"]
    units: list[Causes] = [
        tuple(scale),
        (("unit", {"metres_per_unit": float(scale[0][1]["factor"]) if scale else 1.0}),),
    ]
    ups: list[Causes] = [tuple(turn)]
    done = np.eye(3)
    for _, params in turn:
        done = about_axis(params["axis"], params["angle_deg"], convention) @ done
    for up in ("Y", "Z", "X"):
        if np.allclose(UP_AXES[up].T @ UP_AXES["Y"], done, atol=1e-6):
            ups.append((("up_axis", {"up": up}),))
    return [(*u, *t, *plain) for u in units for t in ups]


def _by_the_second(ways: list[Causes], second: Returned, convention: Convention, fit: str) -> list[Causes]:
    """Those of the ways that explain what came back of the second file too; none where none does."""
    sent = made_camera()
    seen = track_of(second, convention)
    require_usable(seen, "The returned camera of the second file")
    out = []
    for causes in ways:
        whole = np.tile(np.eye(4), (len(sent), 1, 1))
        here = Arriving(sent, IMAGE, fit, whole, whole, "Z", 0.01)
        there = arrived(here, list(causes), convention).track
        a, b = on_common_frames(there, seen)
        if not len(a):
            continue
        apart = Apart(b, second.image, fit)
        off = float(apart(a).max())
        out.append((off, causes, max(EXPLAINED_PX, of_decimals(b, convention, apart).px, 0.5)))
    return [causes for off, causes, enough in sorted(out, key=lambda o: o[0]) if off <= enough]


def _fit_of(third: Returned, convention: Convention, among: list[str]) -> tuple[str, list[str]]:
    """How the image is inscribed, of those that the first film back left, by one of another aspect; and all that fit as well."""
    frames = [f for f in third.pixels if np.abs(third.frames - f).min() < 1e-3]
    if not frames:
        raise BadInput("The third form has no pixels on its frames: fill in both for the same frames.")
    at = np.array([int(np.argmin(np.abs(third.frames - f))) for f in frames])
    track = track_of(third, convention).select_frames(at)
    target = Target(third, frames, track.position_m, track.lens)
    off = {f: float(target.off(track.rotation[None, None], f)[0, 0]) for f in among}
    least = min(off.values())
    good = [f for f in among if off[f] <= max(least + 0.02, 1.5 * least)]
    return good[0], good


def _decimals_of(returned: Returned) -> int | None:
    """The decimals that the points are written with; None for numbers with all their digits."""
    return decimals_in(np.array(list(returned.points.values())))
