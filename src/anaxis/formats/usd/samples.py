"""Values over the frames as USD holds them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from pxr import Sdf, Usd

from anaxis.core.typing import Floats


def set_values(attr: Usd.Attribute, frames: Floats, values: Floats) -> None:
    """One default where a channel does not vary, else a sample on every frame."""
    if np.ptp(values) == 0:
        attr.Set(float(values[0]))
    else:
        set_samples(attr, frames, [float(v) for v in values])


def set_samples(attr: Usd.Attribute, frames: Floats, values: Sequence[object]) -> None:
    layer, path = attr.GetStage().GetRootLayer(), attr.GetPath()
    with Sdf.ChangeBlock():
        for frame, value in zip(frames.tolist(), values, strict=True):
            layer.SetTimeSample(path, frame, value)
