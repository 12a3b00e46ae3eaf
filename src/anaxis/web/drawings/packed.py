"""Drawings' data for the browser: named float64 arrays behind a JSON header, in one binary answer.

Layout: 4 bytes little-endian header length, the header (padded to a multiple of 8 with spaces),
then the arrays one after another. The browser only draws what is in here.
"""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from anaxis.core.typing import Floats


def encode_drawing(facts: dict[str, Any], arrays: dict[str, Floats]) -> bytes:
    layout = {k: list(a.shape) for k, a in arrays.items()}
    header = json.dumps({"facts": facts, "arrays": layout}).encode()
    header += b" " * (-(len(header) + 4) % 8)
    body = b"".join(np.ascontiguousarray(a, dtype="<f8").tobytes() for a in arrays.values())
    return len(header).to_bytes(4, "little") + header + body
