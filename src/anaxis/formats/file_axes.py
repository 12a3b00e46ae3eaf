"""In which axes and unit each format is written for a receiver, and what of it the file states."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.space.axes import Convention, axis_name
from anaxis.core.typing import Floats


@dataclass(frozen=True)
class FileAxes:
    """``up`` and ``unit_m`` are what an importer reads of a file's axes and unit; None where it reads the package's own."""

    convention: Convention
    up: str | None
    unit_m: float | None


def file_axes(format_key: str, receiver: Convention) -> FileAxes:
    """The axes and unit in which a format is written for a receiver.

    Right-handed formats cannot hold a left-handed package's axes: it gets the file whose up axis and unit are
    nearest to its own, and its importer turns that into its own axes.
    """
    if format_key in ("columns", "json"):
        return FileAxes(receiver, None, None)
    if format_key == "gltf":
        return FileAxes(Convention(), "Y", 1.0)
    up = "Z" if axis_name(receiver.world[:, 1])[1] == "Z" else "Y"
    return FileAxes(
        Convention(world=UP_AXES[up], metres_per_unit=receiver.metres_per_unit), up, receiver.metres_per_unit
    )


def is_still(values: Floats) -> bool:
    """Whether an array (n, ...) is the same on every frame."""
    return bool(np.ptp(values, axis=0).max() == 0)
