"""Writing an ST map: red is s, green t from the lower left, blue 0, 32-bit float (docs/formats.md)."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from anaxis.core.typing import Floats


def write_st_map(st: Floats, path: Path) -> None:
    """Write (h, w, 2), rows from the top, to an .exr."""
    import OpenEXR

    pixels = np.zeros((*st.shape[:2], 3), dtype=np.float32)
    pixels[:, :, :2] = st
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {"RGB": pixels}) as out:
        out.write(str(path))
