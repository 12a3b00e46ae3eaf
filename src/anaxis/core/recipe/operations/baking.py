"""The tree above a camera baked into its own motion."""

from __future__ import annotations

import numpy as np

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.errors import BadInput
from anaxis.core.parameters import Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.scene.bake import camera_range
from anaxis.core.scene.nodes import Scene
from anaxis.core.time.rates import frame_range
from anaxis.core.typing import Floats


class Bake(Parameters):
    """The bake: over which frames, and at which step."""

    first: Number | None = parameter("First frame", default=None)
    last: Number | None = parameter("Last frame", default=None)
    step: Number = parameter("Step", "frames", default=1.0)


def _bake(work: Work, p: Bake) -> Work:
    """Done by :func:`anaxis.core.recipe.replay.replay`, between the tree and the track."""
    return work


def _bake_words(p: Bake) -> str:
    ends = ["first" if p.first is None else f"{p.first:g}", "last" if p.last is None else f"{p.last:g}"]
    span = "" if p.first is None and p.last is None else f"frames {' to '.join(ends)}"
    step = f"every {p.step:g} frames" if p.step != 1 else ""
    return ", ".join(x for x in (span, step) if x) or "every whole frame"


def frames_of(scene: Scene, path: str, p: Bake, within: tuple[float, float] | None = None) -> Floats:
    """The frames a bake asks for, (n,): first, last and step where given, else every whole frame.

    A step below one gives sub-frames; the frames are counted from the first. ``within`` is what is left of it
    behind, where the camera's own range is more than can be baked. Raises BadInput for a range the camera has no
    part of, and for too many frames.
    """
    node = scene.camera(path)
    low, high = camera_range(scene, node.path)
    what = f"{scene.name}, camera {node.path},"
    first, last, step = p.first, p.last, p.step
    if step <= 0:
        raise BadInput(f"A step of {step:g} frames is not possible: it must be above zero.")
    if within is not None and high - low >= MAX_FRAMES:
        low, high = max(low, np.floor(within[0])), min(high, np.ceil(within[1]))
    if first is None and last is None and step == 1.0:
        return frame_range(low, high, what)
    # A camera without samples stands the same at any frame.
    start = float(np.ceil(low - 1e-6)) if first is None else first
    end = float(np.floor(high + 1e-6)) if last is None else last
    if start > end:
        raise BadInput(f"The range {start:g} to {end:g} ends before it begins: swap the numbers.")
    count = int(np.floor((end - start) / step + 1e-9)) + 1
    if count > MAX_FRAMES:
        raise BadInput(f"{what} would have {count} samples; at most {MAX_FRAMES} are possible: use a larger step.")
    return np.asarray(start + step * np.arange(count), dtype=np.float64)


BAKE = Kind("bake", "Bake", "bake", Bake, _bake, _bake_words, once=True, moves_time=True)
