"""Drawings' data for the browser: named float64 arrays behind a JSON header, in one binary answer.

Layout: 4 bytes little-endian header length, the header (padded to a multiple of 8 with spaces),
then the arrays one after another. The browser only draws what is in here.

An array whose rows are all the same is sent as one row ("constant" in the header), and one that is equal to an earlier array
not again ("same"): a lens that does not move is half of what a long shot would send.
"""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from anaxis.core.typing import Floats


def encode_drawing(facts: dict[str, Any], arrays: dict[str, Floats]) -> bytes:
    """The answer for a drawing: ``facts`` are JSON, the arrays float64 of any shape."""
    bodies: list[bytes] = []
    sent: dict[tuple[tuple[int, ...], bytes], str] = {}
    constant, same = [], {}
    for name, array in arrays.items():
        body = np.ascontiguousarray(array, dtype="<f8").tobytes()
        row = len(body) // max(1, len(array))
        if len(array) > 1 and body == body[:row] * len(array):
            constant.append(name)
            body = body[:row]
        first = sent.setdefault((array.shape, body), name)
        if first != name and (first in constant) == (name in constant):
            same[name] = first
        else:
            bodies.append(body)
    layout = {k: list(a.shape) for k, a in arrays.items()}
    header = json.dumps({"facts": facts, "arrays": layout, "constant": constant, "same": same}).encode()
    header += b" " * (-(len(header) + 4) % 8)
    return len(header).to_bytes(4, "little") + header + b"".join(bodies)
