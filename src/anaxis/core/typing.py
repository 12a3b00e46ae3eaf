"""Array types shared by the core, and how they stand in a document beside which blocks of bytes lie.

Pydantic asks each annotated type for it: an array or an archive in a message between two processes is a block, and the
document holds the block's place. The blocks are the context of ``dump_python`` and ``validate_python``.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, TypeAlias

import numpy as np
from numpy.typing import NDArray
from pydantic_core import CoreSchema, core_schema


class _InBlocks:
    """A value of which the document holds the place of its block, and what else it takes to read that."""

    def put(self, value: Any, blocks: list[bytes]) -> Any:
        raise NotImplementedError

    def get(self, stated: Any, blocks: list[bytes]) -> Any:
        raise NotImplementedError

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> CoreSchema:
        def put(value: Any, info: Any) -> Any:
            return self.put(value, info.context)

        def get(stated: Any, info: Any) -> Any:
            return self.get(stated, info.context)

        shown = core_schema.plain_serializer_function_ser_schema(put, info_arg=True)
        return core_schema.with_info_plain_validator_function(get, serialization=shown)


@dataclass(frozen=True)
class _Array(_InBlocks):
    dtype: str

    def put(self, value: Any, blocks: list[bytes]) -> list[int]:
        array = np.ascontiguousarray(value, self.dtype)
        blocks.append(array.tobytes())
        return [len(blocks) - 1, *np.shape(value)]

    def get(self, stated: list[int], blocks: list[bytes]) -> NDArray[Any]:
        place, *shape = stated
        return np.frombuffer(blocks[place], self.dtype).reshape(shape).copy()


class _Archive(_InBlocks):
    def put(self, value: bytes, blocks: list[bytes]) -> int:
        blocks.append(value)
        return len(blocks) - 1

    def get(self, stated: int, blocks: list[bytes]) -> bytes:
        return blocks[stated]


Floats: TypeAlias = Annotated[NDArray[np.float64], _Array("<f8")]
Singles: TypeAlias = Annotated[NDArray[np.float32], _Array("<f4")]  # the pixels of pictures
Bytes: TypeAlias = Annotated[NDArray[np.uint8], _Array("|u1")]
Ints: TypeAlias = Annotated[NDArray[np.integer[Any]], _Array("<i8")]
Bools: TypeAlias = Annotated[NDArray[np.bool_], _Array("?")]
FloatsLike: TypeAlias = Any  # anything numpy.asarray(..., dtype=float64) takes
Archive: TypeAlias = Annotated[bytes, _Archive()]  # what is kept or sent as it is
