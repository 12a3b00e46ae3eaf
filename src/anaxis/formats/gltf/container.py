"""A glTF file in one piece: its document and the one binary buffer behind it."""

from __future__ import annotations

import struct
from typing import Any

import numpy as np

from anaxis.core.typing import Floats, Ints


class Buffer:
    """The one binary buffer, its views and accessors."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def add(self, array: Floats) -> int:
        values = np.ascontiguousarray(array, dtype="<f4")
        flat = values.reshape(len(values), -1)
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": values.nbytes})
        self.data += values.tobytes()
        kind = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}[flat.shape[1]]
        self.accessors.append(
            {
                "bufferView": len(self.views) - 1,
                "componentType": 5126,
                "count": len(values),
                "type": kind,
                "min": flat.min(axis=0).astype(float).tolist(),
                "max": flat.max(axis=0).astype(float).tolist(),
            }
        )
        return len(self.accessors) - 1

    def add_bytes(self, data: bytes) -> int:
        """A view of bytes that are no numbers."""
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)})
        self.data += data + b"\0" * (-len(data) % 4)
        return len(self.views) - 1

    def add_indices(self, corners: Ints) -> int:
        """Indices of points, of two bytes each where that is enough."""
        small = int(corners.max(initial=0)) < 65_535
        view = self.add_bytes(corners.astype("<u2" if small else "<u4").tobytes())
        kind = 5123 if small else 5125
        self.accessors.append({"bufferView": view, "componentType": kind, "count": len(corners), "type": "SCALAR"})
        return len(self.accessors) - 1


def container(text: bytes, data: bytes) -> bytes:
    """The document and its buffer in one file, each padded to four bytes as the standard asks."""
    text += b" " * (-len(text) % 4)
    data += b"\0" * (-len(data) % 4)
    parts = struct.pack("<I4s", len(text), b"JSON") + text
    if data:
        parts += struct.pack("<I4s", len(data), b"BIN\0") + data
    return struct.pack("<4sII", b"glTF", 2, 12 + len(parts)) + parts
