"""Guesses for what a file does not state: rate, up axis, unit; each with the reason for it.

A guess is kept in ``Scene.guesses`` with its reason, shown as a guess, and can be corrected.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from anaxis.core.scene.bake import chain_keys, world_matrices
from anaxis.core.scene.nodes import UP_AXES, Node, Scene, corrected
from anaxis.core.time.rates import rate_label
from anaxis.core.typing import Floats

# The commonest first: a file sampled every second frame at 24 also fits 12, 48 and 120.
_LIKELY_RATES = tuple(
    Fraction(r)
    for r in (
        "24", "25", "30", "24000/1001", "30000/1001", "48", "50", "60", "48000/1001", "60000/1001",
        "120", "120000/1001", "12", "15", "72", "90", "100", "240",
    )
)  # fmt: skip
_ON_FRAME = 1e-3
# How near the median step must be to a usual rate, and every sample to a frame of it, where times begin anywhere.
_NEAR_RATE, _LOOSE_FRAME = 0.004, 0.3
# What cameras and the sets they move in measure for the most part, and how much less common a unit is.
_USUAL_HEIGHT_M, _USUAL_SET_M = 2.0, 30.0
_RARENESS = {1.0: 0.0, 0.01: 0.0, 0.001: 2.0}
_UNIT_WORDS = {1.0: "metres", 0.01: "centimetres", 0.001: "millimetres"}


class Guess(NamedTuple):
    value: Fraction | str | float
    why: str


def guess_rate(seconds: Floats) -> tuple[Fraction, str]:
    """The rate at which samples at ``seconds`` (k,) lie on whole frames, and why.

    24 where nothing can be from them.
    """
    times = np.unique(seconds[np.isfinite(seconds)])
    if len(times) < 2:
        return Fraction(24), "the file states none and has no samples; 24 is assumed"
    # Single-precision seconds carry an error that grows with time.
    slack = _ON_FRAME + 4 * float(np.finfo(np.float32).eps) * float(np.abs(times).max())
    for rate in _LIKELY_RATES:
        at = times * float(rate)
        if np.abs(at - np.round(at)).max() < slack * max(1.0, float(rate) / 24):
            return rate, (f"the file states none; at {rate_label(rate)} all {len(times)} sample times are whole frames")
    spacing = float(np.median(np.diff(times)))
    # A clock that was running when the shot began: the steps tell the rate, the times nothing of the frames.
    nearest = min(_LIKELY_RATES, key=lambda r: abs(np.log(float(r) * spacing)))
    off = (times - times[0]) * float(nearest)
    if abs(float(nearest) * spacing - 1) < _NEAR_RATE and np.abs(off - np.round(off)).max() < _LOOSE_FRAME:
        return nearest, (
            f"the file states none; its {len(times)} samples are {spacing:.4g} s apart mostly, which is "
            f"{rate_label(nearest)} a second"
        )
    return Fraction(24), (
        f"the file states none and its samples, {spacing:.4g} s apart, fit whole frames at no common rate; 24 is assumed"
        ""
    )


def guess_up_axis(scene: Scene) -> Guess:
    """The axis the cameras' own up leans along on average; Y where that does not tell."""
    lean = np.zeros(3)
    for node in scene.cameras:
        up = world_matrices(scene, node.path, _frames(scene, node))[:, :3, 1]
        with np.errstate(invalid="ignore", divide="ignore"):
            lean += np.nan_to_num(np.mean(up / np.linalg.norm(up, axis=1, keepdims=True), axis=0))
    if abs(lean[2]) > 1.5 * abs(lean[1]):
        return Guess("Z", "the file does not state it; the camera's own up points along Z")
    if abs(lean[1]) > 1.5 * abs(lean[2]):
        return Guess("Y", "the file does not state it; the camera's own up points along Y")
    return Guess("Y", "the file does not state it and the camera's own up is unclear; Y is more common")


def guess_metres_per_unit(scene: Scene) -> Guess:
    """Metres, centimetres or millimetres: whichever makes the camera's height and the set's size usual ones."""
    size, height = _extent(scene), _height(scene)
    if size == 0 and height == 0:
        return Guess(0.01, "the file does not state it and has nothing to measure; centimetres are more common")

    def oddness(unit: float) -> float:
        high = abs(np.log(height * unit / _USUAL_HEIGHT_M)) if height > 0 else 0.0
        wide = abs(np.log(size * unit / _USUAL_SET_M)) / 2 if size > 0 else 0.0
        return float(high + wide + _RARENESS[unit])

    unit = min(_RARENESS, key=oddness)
    seen = f"its contents span {size:,.4g} units" if size else "it"
    stands = f" and the camera is {height:,.4g} high" if height > 0 else ""
    return Guess(
        unit,
        f"the file does not state it; {seen}{stands}: in {_UNIT_WORDS[unit]} that is {size * unit:,.1f} m"
        f"{f' and {height * unit:,.1f} m' if height > 0 else ''}",
    )


def with_guesses(scene: Scene, up_axis: bool, metres_per_unit: bool) -> Scene:
    """The scene with the wanted guesses made and noted."""
    guesses = dict(scene.guesses)
    if up_axis:
        up = guess_up_axis(scene)
        scene = replace(scene, convention=replace(scene.convention, world=UP_AXES[str(up.value)]))
        guesses["up_axis"] = up.why
    if metres_per_unit:
        unit = guess_metres_per_unit(scene)
        scene = corrected(scene, metres_per_unit=float(unit.value))
        guesses["metres_per_unit"] = unit.why
    return replace(scene, guesses=guesses)


def _frames(scene: Scene, node: Node) -> Floats:
    """The frames that show where a node goes: those of whatever moves it."""
    keys = chain_keys(scene, node.path)
    return keys if len(keys) else np.zeros(1)


def _extent(scene: Scene) -> float:
    """The largest side of the box round camera paths, landmarks and set lines, in file units."""
    points = []
    for node in scene.nodes:
        if node.kind == "transform":
            continue
        world = world_matrices(scene, node.path, _frames(scene, node))
        points.append(world[:, :3, 3])
        if node.segments is not None and len(node.segments):
            points.append(node.segments.reshape(-1, 3) @ world[0, :3, :3].T + world[0, :3, 3])
    every = np.concatenate(points) if points else np.zeros((1, 3))
    every = every[np.isfinite(every).all(axis=1)]
    return float(np.ptp(every, axis=0).max()) if len(every) else 0.0


def _height(scene: Scene) -> float:
    """How high the cameras stand above the origin for the most part, in file units; 0 where they do not."""
    heights = [
        world_matrices(scene, n.path, _frames(scene, n))[:, :3, 3] @ scene.convention.world[:, 1] for n in scene.cameras
    ]
    every = np.concatenate(heights) if heights else np.zeros(1)
    every = every[np.isfinite(every)]
    return max(0.0, float(np.median(every))) if len(every) else 0.0
