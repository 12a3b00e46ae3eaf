"""Reading pictures, ST maps and edits apart: a fork server whose forks do one task each.

A task says under "do" what is to be done (a name in ``_ONCE`` or in :data:`anaxis.sandbox.plate_tasks.TASKS`). The former
have one answer, a document and blocks, or {"sentence", "code"}; the latter one for each frame.
"""

from __future__ import annotations

from anaxis.sandbox.confined import begin_confined

if __name__ == "__main__":
    begin_confined()

import signal
import socket
from collections.abc import Callable
from pathlib import Path

import numpy as np
import opentimelineio

from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate
from anaxis.diagnosis.board import Board, find_board
from anaxis.diagnosis.stills import read_picture, to_png
from anaxis.formats.editorial.cut_list import read_cut_list
from anaxis.formats.plates.display import displayed
from anaxis.formats.plates.picture import read_picture_pixels
from anaxis.formats.st_map.read import read_st_map
from anaxis.sandbox.budget import allow_more
from anaxis.sandbox.fork_server import serve_forks
from anaxis.sandbox.messages import Document, Message, receive, send
from anaxis.sandbox.plate_tasks import TASKS, do_frames

_MEMORY_MB = 4000


def _picture(task: Document, path: Path) -> Message:
    return {}, [to_png(read_picture(path))]


def _edit(task: Document, path: Path) -> Message:
    return read_cut_list(path, parse_rate(task["rate"])).as_dict(), []


def _st_map(task: Document, path: Path) -> Message:
    found = read_st_map(path)
    height, width = found.st.shape[:2]
    rows, columns = (
        np.unique(np.linspace(0, n - 1, min(n, most)).astype(int)) for n, most in ((height, 45), (width, 80))
    )
    picked = found.st[np.ix_(rows, columns)]
    return {
        "rows": rows.tolist(), "columns": columns.tolist(), "st": picked.tolist(),
        "resolution": [found.st.shape[1], found.st.shape[0]], "origin": found.origin, "direction": found.direction,
        "largest_px": found.largest_px, "guesses": found.guesses,
    }, []  # fmt: skip


def _board(task: Document, path: Path) -> Message:
    pixels, facts = read_picture_pixels(path)
    grey = displayed(pixels, facts.linear).mean(axis=-1)
    board = Board(task["kind"], int(task["columns"]), int(task["rows"]))
    points = find_board(np.ascontiguousarray(grey, dtype=np.uint8), board, path.name)
    return {"points": points.tolist(), "size": [facts.width_px, facts.height_px]}, []


_ONCE: dict[str, Callable[[Document, Path], Message]] = {
    "picture": _picture,
    "edit": _edit,
    "st_map": _st_map,
    "board": _board,
}


def serve(line: socket.socket, taken_bytes: int) -> None:
    """Do the one task that is asked for."""
    task = receive(line)[0]
    if task["do"] in TASKS:
        do_frames(line, task, taken_bytes)
        return
    allow_more(_MEMORY_MB, taken_bytes)
    signal.alarm(int(task["wall_s"]) + 1)
    path = Path(task["path"])
    try:
        send(line, *_ONCE[task["do"]](task, path))
    except BadInput as error:
        send(line, error.as_dict())
    except MemoryError:
        sentence = f"{path.name} needs more than {_MEMORY_MB} MB of memory to read: use a smaller one."
        send(line, BadInput(sentence, "too_large").as_dict())


def load() -> None:
    """What libraries set up when they are first used: better before there is a file."""
    opentimelineio.plugins.ActiveManifest()


if __name__ == "__main__":
    serve_forks(load, serve)
