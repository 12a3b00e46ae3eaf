"""Writing a set as OBJ: what stands still, with its faces, in the receiver's own axes and unit."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from anaxis.core.scene.mesh import Spread
from anaxis.core.typing import Floats, Ints
from anaxis.formats.file_axes import FileAxes
from anaxis.formats.set_piece import SetPiece, SetTimes


def write_obj_set(path: Path, pieces: Sequence[SetPiece], times: SetTimes, axes: FileAxes) -> None:
    """Each object, which stands still, as an ``o``; those of a group behind its ``g``."""
    written = [0, 0, 0]  # points, texture coordinates, normals
    with path.open("w", encoding="ascii") as out:
        out.write("# the set, in the receiving package's own axes and unit\n")
        for piece in pieces:
            out.write(f"o {piece.name}\n" + (f"g {piece.group}\n" if piece.group else ""))
            one = piece.shown
            parts: list[tuple[str, Floats, Ints]] = [("v", piece.world, one.corners)]
            if one.texture is not None:
                parts.append(("vt", one.texture.values, _index(one.texture, one.corners)))
            if one.normals is not None:
                parts.append(("vn", _turned(one.normals.values, piece.matrix[0]), _index(one.normals, one.corners)))
            for word, values, _ in parts:
                out.writelines(f"{word} {' '.join(map(repr, row))}\n" for row in values.tolist())
            _write_faces(out, one.counts, {word: index for word, _, index in parts}, written)
            for word, values, _ in parts:
                written[("v", "vt", "vn").index(word)] += len(values)


def _write_faces(out: object, counts: Ints, index: dict[str, Ints], written: list[int]) -> None:
    """The faces, each corner as point, point/texture, point//normal or point/texture/normal."""
    each = {word: (values + written[i] + 1).tolist() for i, word in enumerate(("v", "vt", "vn")) if (values := index.get(word)) is not None}  # fmt: skip
    if "vn" in each:
        middle = each.get("vt", [""] * len(each["v"]))
        corners = [f"{v}/{t}/{n}" for v, t, n in zip(each["v"], middle, each["vn"], strict=True)]
    elif "vt" in each:
        corners = [f"{v}/{t}" for v, t in zip(each["v"], each["vt"], strict=True)]
    else:
        corners = list(map(str, each["v"]))
    ends = np.cumsum(counts).tolist()
    starts = [0, *ends[:-1]]
    out.writelines(f"f {' '.join(corners[a:b])}\n" for a, b in zip(starts, ends, strict=True))  # type: ignore[attr-defined]


def _index(spread: Spread, corners: Ints) -> Ints:
    return np.arange(len(corners)) if spread.by_corner else corners


def _turned(normals: Floats, matrix: Floats) -> Floats:
    """Normals (k, 3) of a surface that a matrix places, of length 1."""
    turned = normals @ np.linalg.inv(matrix[:3, :3])
    length = np.linalg.norm(turned, axis=1, keepdims=True)
    return np.divide(turned, length, out=np.zeros_like(turned), where=length > 0)
