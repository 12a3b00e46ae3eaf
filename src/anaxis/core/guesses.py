"""Guesses for what a file does not state: rate, up axis, unit; each with the reason for it.

A guess is kept in ``Scene.guesses`` with its reason, shown as a guess, and can be corrected.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from anaxis.core.axes import Convention
from anaxis.core.bake import chain_keys, world_matrices
from anaxis.core.scene import UP_AXES, Node, Scene, corrected
from anaxis.core.timing import rate_label
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
# A set that a camera moves in is seldom larger than this, in metres.
_LARGE_SET_M = 400.0


class Guess(NamedTuple):
    value: Fraction | str | float
    why: str


def guess_rate(seconds: Floats) -> tuple[Fraction, str]:
    """The rate at which samples at ``seconds`` (k,) lie on whole frames, and why.

    24 where nothing can be told from them.
    """
    times = np.unique(seconds[np.isfinite(seconds)])
    if len(times) < 2:
        return Fraction(24), "the file stores none and has no samples to tell it from; 24 is taken"
    # Single-precision seconds carry an error that grows with time.
    slack = _ON_FRAME + 4 * float(np.finfo(np.float32).eps) * float(np.abs(times).max())
    for rate in _LIKELY_RATES:
        at = times * float(rate)
        if np.abs(at - np.round(at)).max() < slack * max(1.0, float(rate) / 24):
            return rate, (
                f"the file stores none; at {rate_label(rate)} all {len(times)} sample times lie on whole frames"
            )
    spacing = float(np.median(np.diff(times)))
    return Fraction(24), (
        f"the file stores none and its samples, {spacing:.4g} s apart, lie on whole frames at no usual rate; "
        "24 is taken"
    )


def guess_up_axis(scene: Scene) -> Guess:
    """The axis the cameras' own up leans along on average; Y where that does not tell."""
    lean = np.zeros(3)
    for node in scene.cameras:
        up = world_matrices(scene, node.path, _frames(scene, node))[:, :3, 1]
        with np.errstate(invalid="ignore", divide="ignore"):
            lean += np.nan_to_num(np.mean(up / np.linalg.norm(up, axis=1, keepdims=True), axis=0))
    if abs(lean[2]) > 1.5 * abs(lean[1]):
        return Guess("Z", "the file does not say; the camera's own up leans along Z")
    if abs(lean[1]) > 1.5 * abs(lean[2]):
        return Guess("Y", "the file does not say; the camera's own up leans along Y")
    return Guess("Y", "the file does not say and the camera's own up does not tell; Y is the commoner")


def guess_metres_per_unit(scene: Scene) -> Guess:
    """Metres or centimetres, by the size of everything the file holds."""
    size = _extent(scene)
    if size == 0:
        return Guess(0.01, "the file does not say and nothing in it has a size; centimetres are the commoner")
    if size > _LARGE_SET_M:
        return Guess(
            0.01,
            f"the file does not say; what it holds spans {size:,.0f} units, a set's size in centimetres "
            f"({size / 100:,.1f} m)",
        )
    return Guess(1.0, f"the file does not say; what it holds spans {size:,.3g} units, a set's size in metres")


def with_guesses(scene: Scene, up_axis: bool, metres_per_unit: bool) -> Scene:
    """The scene with the wanted guesses made and noted."""
    guesses = dict(scene.guesses)
    if up_axis:
        up = guess_up_axis(scene)
        scene = replace(scene, convention=Convention(UP_AXES[str(up.value)], metres_per_unit=1.0))
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
