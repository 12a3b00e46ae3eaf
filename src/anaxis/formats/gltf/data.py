"""glTF's binary side: buffers and accessors as arrays (glTF 2.0, sections 3.6 and 5.1)."""

from __future__ import annotations

import base64
import binascii
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from pygltflib import GLTF2

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

_TYPES = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_MAX_ITEMS = 20_000_000


class Accessors:
    """A document's accessors by index; ``within`` is the folder whose files buffers may be.

    ``outside`` lists the buffer files that were asked for and never opened.
    """

    def __init__(self, document: GLTF2, name: str, folder: Path, within: Path | None) -> None:
        self._document, self._name, self._folder, self._within = document, name, folder, within
        self._buffers: dict[int, bytes] = {}
        self.outside: list[str] = []

    def array(self, index: int | None) -> Floats:
        """An accessor as (count, components) float64, normalised integers as -1..1 or 0..1.

        Raises BadInput for indices and sizes that do not fit the file.
        """
        try:
            accessor = self._document.accessors[self._index(index, self._document.accessors)]
            width = _WIDTHS[accessor.type]
            kind = np.dtype(_TYPES[accessor.componentType])
            if not 0 <= accessor.count * width <= _MAX_ITEMS:
                raise ValueError
            if accessor.bufferView is None:
                raw = np.zeros((accessor.count, width), dtype=kind)
            else:
                offset = accessor.byteOffset or 0
                raw = self._view(accessor.bufferView, offset, accessor.count, width, kind)
            if accessor.sparse is not None:
                raw = self._sparse(accessor, raw, width, kind)
        except BadInput:
            raise
        except (ValueError, IndexError, KeyError, TypeError, AttributeError) as error:
            raise BadInput(
                f"{self._name}, accessor {index}, does not fit the file's buffers: it is damaged or breaks off; "
                "export it again."
            ) from error
        values = raw.astype(np.float64)
        if accessor.normalized and kind.kind in "iu":
            values = np.maximum(values / np.iinfo(kind).max, -1.0)
        return values

    def _sparse(self, accessor: Any, raw: np.ndarray, width: int, kind: np.dtype[Any]) -> np.ndarray:
        sparse = accessor.sparse
        where = self._view(
            sparse.indices.bufferView,
            sparse.indices.byteOffset or 0,
            sparse.count,
            1,
            np.dtype(_TYPES[sparse.indices.componentType]),
        )[:, 0]
        values = self._view(sparse.values.bufferView, sparse.values.byteOffset or 0, sparse.count, width, kind)
        raw = raw.copy()
        raw[where] = values
        return raw

    def _view(self, index: int, offset: int, count: int, width: int, kind: np.dtype[Any]) -> np.ndarray:
        view = self._document.bufferViews[self._index(index, self._document.bufferViews)]
        data = self._buffer(view.buffer)
        start, item = (view.byteOffset or 0) + offset, width * kind.itemsize
        stride = view.byteStride or item
        needed = start + (count - 1) * stride + item if count else start
        if min(start, offset, count) < 0 or stride < kind.itemsize or needed > len(data):
            raise ValueError
        if count == 0:
            return np.zeros((0, width), dtype=kind)
        return np.ndarray((count, width), kind, data, start, (stride, kind.itemsize))

    def _index(self, index: int | None, of: list[Any]) -> int:
        if not isinstance(index, int) or not 0 <= index < len(of):
            raise IndexError
        return index

    def _buffer(self, index: int) -> bytes:
        if index not in self._buffers:
            buffer = self._document.buffers[self._index(index, self._document.buffers)]
            self._buffers[index] = self._load(buffer.uri)
        return self._buffers[index]

    def _load(self, uri: str | None) -> bytes:
        if uri is None:
            return bytes(self._document.binary_blob() or b"")
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=True)
            except binascii.Error as error:
                raise ValueError from error
        target = (self._folder / unquote(uri)).resolve()
        if self._within is not None and target.is_relative_to(self._within.resolve()) and target.is_file():
            return target.read_bytes()
        if uri not in self.outside:
            self.outside.append(uri)
        raise BadInput(
            f"{self._name} has its data in '{uri[:80]}', which is not part of the upload: export as .glb, or "
            "pack both files into one .zip."
        )
