"""What else cannot be trusted, read in a process of its own that answers once: pictures and edits.

Run as ``python -m anaxis.work.sandbox.apart KIND FILE [MORE]``: one letter and a body on standard output, S and the answer
or E and a sentence. Camera files have readers of their own that are kept warm (:mod:`anaxis.work.sandbox.guard`).
"""

from __future__ import annotations

import json
import os
import resource
import shutil
import subprocess
import sys
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.work.sandbox.confined import clean_environment, confined
from anaxis.work.sandbox.folders import handed_in, made_for_a_reader

if TYPE_CHECKING:  # each kind loads what it needs: this module is the start of a process
    from anaxis.core.typing import Floats
    from anaxis.diagnosis.board import Board
    from anaxis.formats.editorial.cut_list import CutList

_WALL_S, _MEMORY_MB = 60, 4000


def safe_png(path: Path) -> bytes:
    """A PNG, JPEG or EXR as a PNG; raises BadInput, also where the decoder crashed or hung."""
    return _ask("picture", path, "render it again")


def safe_cut_list(path: Path, rate: Fraction) -> CutList:
    """An edit as :func:`anaxis.formats.editorial.cut_list.read_cut_list` reads it; raises BadInput, also where the reader crashed or hung."""
    from anaxis.formats.editorial.cut_list import cut_list_from_dict

    return cut_list_from_dict(json.loads(_ask("edit", path, "export it again", rate_text(rate))))


def safe_st_map(path: Path) -> dict[str, Any]:
    """What an ST map holds, as :func:`anaxis.formats.st_map.read.read_st_map` reads it, in plain JSON; raises BadInput.

    Of its pixels those of some ``rows`` and ``columns`` come along as ``st``.
    """
    found: dict[str, Any] = json.loads(_ask("st_map", path, "write it again"))
    return found


def safe_board(path: Path, board: Board) -> tuple[Floats, tuple[int, int]]:
    """The corners or dots of a board in a picture, (m, 2) px, and the picture's size; raises BadInput."""
    import numpy as np

    found = json.loads(_ask("board", path, "hand it over again", board.kind, str(board.columns), str(board.rows)))
    return np.array(found["points"], dtype=np.float64), (int(found["size"][0]), int(found["size"][1]))


def _ask(kind: str, path: Path, remedy: str, *more: str) -> bytes:
    folder = made_for_a_reader()
    try:
        done = subprocess.run(
            confined("apart", folder, kind, str(handed_in(path, folder)), *more),
            capture_output=True,
            timeout=_WALL_S,
            env=clean_environment(folder),
        )
    except subprocess.TimeoutExpired as error:
        raise BadInput(
            f"{path.name} took longer than {_WALL_S} s to read and was given up: hand over a smaller one.", "too_slow"
        ) from error
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    if done.stdout[:1] == b"S":
        return done.stdout[1:]
    if done.stdout[:1] == b"E":
        raise BadInput.from_dict(json.loads(done.stdout[1:]))
    raise BadInput(f"{path.name} made its reader stop: it is damaged or far too large; {remedy}.", "stopped")


def _picture(path: Path) -> bytes:
    from anaxis.diagnosis.stills import read_picture, to_png

    return to_png(read_picture(path))


def _edit(path: Path, rate: str) -> bytes:
    from anaxis.formats.editorial.cut_list import read_cut_list

    return json.dumps(read_cut_list(path, parse_rate(rate)).as_dict()).encode()


def _st_map(path: Path) -> bytes:
    import numpy as np

    from anaxis.formats.st_map.read import read_st_map

    found = read_st_map(path)
    height, width = found.st.shape[:2]
    rows, columns = (
        np.unique(np.linspace(0, n - 1, min(n, most)).astype(int)) for n, most in ((height, 45), (width, 80))
    )
    picked = found.st[np.ix_(rows, columns)]
    return json.dumps(
        {
            "rows": rows.tolist(), "columns": columns.tolist(), "st": picked.tolist(),
            "resolution": [found.st.shape[1], found.st.shape[0]], "origin": found.origin, "direction": found.direction,
            "largest_px": found.largest_px, "guesses": found.guesses,
        }
    ).encode()  # fmt: skip


def _board(path: Path, kind: str, columns: str, rows: str) -> bytes:
    import numpy as np

    from anaxis.diagnosis.board import Board, find_board
    from anaxis.formats.plates.display import displayed
    from anaxis.formats.plates.picture import read_picture_pixels

    pixels, facts = read_picture_pixels(path)
    grey = displayed(pixels, facts.linear).mean(axis=-1)
    points = find_board(np.ascontiguousarray(grey, dtype=np.uint8), Board(kind, int(columns), int(rows)), path.name)
    return json.dumps({"points": points.tolist(), "size": [facts.width_px, facts.height_px]}).encode()


_KINDS: dict[str, Callable[..., bytes]] = {"picture": _picture, "edit": _edit, "st_map": _st_map, "board": _board}


def main() -> None:
    # What a library prints is no answer of ours.
    to_parent = os.fdopen(os.dup(1), "wb")
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    memory = _MEMORY_MB << 20
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (_WALL_S, _WALL_S + 1))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    kind, path, *more = sys.argv[1:]
    try:
        answer = b"S" + _KINDS[kind](Path(path), *more)
    except BadInput as error:
        answer = b"E" + json.dumps(error.as_dict()).encode()
    to_parent.write(answer)
    to_parent.close()


if __name__ == "__main__":
    main()
