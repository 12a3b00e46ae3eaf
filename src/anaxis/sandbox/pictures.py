"""What else cannot be trusted, read apart (:mod:`anaxis.sandbox.picture_readers`): pictures, ST maps, edits.

Camera files have readers of their own (:mod:`anaxis.sandbox.guard`), and so have the frames of plates
(:mod:`anaxis.sandbox.plates`), which are forked from the same process as these.
"""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anaxis.core.errors import BadInput
from anaxis.core.time.rates import rate_text
from anaxis.sandbox.folders import handed_in
from anaxis.sandbox.forks import Fork, ForkEnded, ForkSource, Gone
from anaxis.sandbox.messages import BadMessage, Document, Message

if TYPE_CHECKING:  # the process apart loads what it needs: a command that only asks it does not
    from anaxis.core.typing import Floats
    from anaxis.diagnosis.board import Board
    from anaxis.formats.editorial.cut_list import CutList

_WALL_S = 60
PICTURE_READERS = ForkSource("picture_readers")


def safe_png(path: Path) -> bytes:
    """A PNG, JPEG or EXR as a PNG; raises BadInput, also where the decoder crashed or hung."""
    return _ask({"do": "picture"}, path, "render it again")[1][0]


def safe_cut_list(path: Path, rate: Fraction) -> CutList:
    """An edit as :func:`anaxis.formats.editorial.cut_list.read_cut_list` reads it; raises BadInput, also where the reader crashed or hung."""
    from anaxis.formats.editorial.cut_list import cut_list_from_dict

    return cut_list_from_dict(_ask({"do": "edit", "rate": rate_text(rate)}, path, "export it again")[0])


def safe_st_map(path: Path) -> dict[str, Any]:
    """What an ST map holds, as :func:`anaxis.formats.st_map.read.read_st_map` reads it, in plain JSON; raises BadInput.

    Of its pixels those of some ``rows`` and ``columns`` come along as ``st``.
    """
    return _ask({"do": "st_map"}, path, "write it again")[0]


def safe_board(path: Path, board: Board) -> tuple[Floats, tuple[int, int]]:
    """The corners or dots of a board in a picture, (m, 2) px, and the picture's size; raises BadInput."""
    import numpy as np

    task = {"do": "board", "kind": board.kind, "columns": board.columns, "rows": board.rows}
    found = _ask(task, path, "send it again")[0]
    return np.array(found["points"], dtype=np.float64), (int(found["size"][0]), int(found["size"][1]))


def _ask(task: Document, path: Path, remedy: str) -> Message:
    def asked(reader: Fork) -> Message:
        reader.send(task | {"path": str(handed_in(path, reader.folder)), "wall_s": _WALL_S}, _WALL_S)
        return reader.receive(_WALL_S)

    try:
        answer, blocks = PICTURE_READERS.asked(asked)
    except TimeoutError as error:
        raise BadInput(
            f"{path.name} took longer than {_WALL_S} s to read and was stopped: use a smaller one.", "too_slow"
        ) from error
    except Gone as error:
        raise BadInput(
            f"{path.name} was not read: its process ended twice (is this machine out of memory?). Try again."
        ) from error
    except (ForkEnded, BadMessage) as error:
        raise BadInput(f"{path.name} made its reader stop: it is damaged or too large; {remedy}.", "stopped") from error
    if "sentence" in answer:
        raise BadInput.from_dict(answer)
    return answer, blocks
