"""Drawings' data for the browser: named float64 arrays behind a JSON header, in one binary answer.

Layout: 4 bytes little-endian header length, the header (padded to a multiple of 8 with spaces),
then the arrays one after another. The browser only draws what is in here.

An array whose rows are all the same is sent as one row ("constant" in the header), one that is equal to an earlier array not
again ("same"), and evenly spaced numbers as the first and the step ("even"): a lens that does not move is half of what a long
shot would send.
"""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from anaxis.core.typing import Floats


def is_constant(array: Floats) -> bool:
    """Whether an array has several rows that are all the same, to the bit."""
    if len(array) < 2 or not array.size:
        return False
    rows = np.ascontiguousarray(array, dtype="<f8").reshape(len(array), -1).view("<i8")
    return bool((rows == rows[0]).all())


def encode_drawing(facts: dict[str, Any], arrays: dict[str, Floats]) -> bytes:
    """The answer for a drawing: ``facts`` are JSON, the arrays float64 of any shape."""
    bodies: list[bytes] = []
    sent: dict[tuple[tuple[int, ...], bytes], str] = {}
    constant, even, same = [], [], {}
    for name, array in arrays.items():
        body = np.ascontiguousarray(array, dtype="<f8").tobytes()
        if is_constant(array):
            constant.append(name)
            body = body[: len(body) // len(array)]
        elif (
            array.ndim == 1
            and len(array) > 2
            and (array == array[0] + np.arange(len(array)) * (array[1] - array[0])).all()
        ):
            even.append(name)
            body = np.array([array[0], array[1] - array[0]], dtype="<f8").tobytes()
        first = sent.setdefault((array.shape, body), name)
        if first != name and (first in constant, first in even) == (name in constant, name in even):
            same[name] = first
        else:
            bodies.append(body)
    layout = {k: list(a.shape) for k, a in arrays.items()}
    header = json.dumps({"facts": facts, "arrays": layout, "constant": constant, "even": even, "same": same}).encode()
    header += b" " * (-(len(header) + 4) % 8)
    return len(header).to_bytes(4, "little") + header + b"".join(bodies)
