"""A camera in a package's own numbers, as arrays."""

from __future__ import annotations

from typing import Any

import numpy as np

from anaxis.core.outgoing import Numbers
from anaxis.core.typing import Floats
from anaxis.packages.model import Profile

_LENS = (
    "focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "hfov_deg", "vfov_deg", "zoom_px", "focus", "fstop",
)  # fmt: skip


class Values(dict[str, Floats]):
    """Arrays (n,) of float64 by name, one number for each frame: ``frame``, ``seconds``, ``x``, ``y``, ``z`` and ``focus`` in the package's
    :attr:`unit`, ``rotation_x_deg``, ``rotation_y_deg``, ``rotation_z_deg`` as the package shows them, ``focal_mm``,
    ``film_width_mm``, ``film_height_mm``, ``offset_x_mm``, ``offset_y_mm``, ``hfov_deg``, ``vfov_deg``, ``zoom_px`` and ``fstop``. What
    is not known is not a number.
    """

    package: str
    unit: str

    @classmethod
    def of(cls, numbers: Numbers, profile: Profile, first: float | None, last: float | None) -> Values:
        low, high = (-np.inf if first is None else first), (np.inf if last is None else last)
        keep = (numbers.frames >= low) & (numbers.frames <= high)
        made = cls(frame=numbers.frames[keep], seconds=numbers.seconds[keep])
        for i, axis in enumerate("xyz"):
            made[axis] = numbers.position[keep, i]
        for i, axis in enumerate("xyz"):
            made[f"rotation_{axis}_deg"] = numbers.rotation_deg[keep, i]
        for name in _LENS:
            made[name] = np.asarray(getattr(numbers, name)[keep], dtype=np.float64)
        made.package, made.unit = profile.key, profile.unit_name
        return made

    def to_pandas(self) -> Any:
        """A ``pandas.DataFrame`` whose index is the frame. Raises ImportError where pandas is not installed."""
        import pandas

        return pandas.DataFrame(
            {k: v for k, v in self.items() if k != "frame"}, index=pandas.Index(self["frame"], name="frame")
        )
