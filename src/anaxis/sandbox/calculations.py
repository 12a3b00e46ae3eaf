"""Functions of the library done apart: a fork server whose forks do one function after the other.

A message is that of :mod:`anaxis.sandbox.calls` with "what", the name that sentences use, and the budget "memory_mb"; the
answer is the function's, {"sentence", "code"} where a person can mend it, or {"failed"} where the fault is ours.
"""

from __future__ import annotations

from anaxis.sandbox.confined import begin_confined

if __name__ == "__main__":
    begin_confined()

import errno
import socket
import traceback

from anaxis.core.errors import BadInput
from anaxis.sandbox import calls
from anaxis.sandbox.budget import allow_more, load_scipy, most_held_bytes
from anaxis.sandbox.fork_server import serve_forks
from anaxis.sandbox.messages import Document, Message, receive, send

_TOO_LARGE = "export the camera without geometry, over the range of the shot."


# A process that has grown by so much is replaced by a fresh one.
_GROWN_MB = 300


def serve(line: socket.socket, taken_bytes: int) -> None:
    """Do the functions that are asked for, one after the other, all with the budget of the first."""
    grown = most_held_bytes() + (_GROWN_MB << 20)
    asked, blocks = receive(line)
    allow_more(int(asked["memory_mb"]), taken_bytes)
    while True:
        send(line, *_answer(asked, blocks))
        del asked, blocks
        if most_held_bytes() > grown:
            return
        asked, blocks = receive(line)


def _answer(asked: Document, blocks: list[bytes]) -> Message:
    try:
        return calls.answer_to(asked, blocks)
    except BadInput as error:
        return error.as_dict(), []
    except Exception as error:
        if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
            sentence = "The disk is full; nothing was changed. Free some space, then try again."
            return BadInput(sentence, "disk_full").as_dict(), []
        if isinstance(error, MemoryError) or "allocate" in str(error).lower():
            sentence = f"{asked['what']} needs more than {asked['memory_mb']} MB of memory: {_TOO_LARGE}"
            return BadInput(sentence, "too_large").as_dict(), []
        # Ours to mend: it goes to the log of the pages, not to the person as a word about the file.
        return {"failed": "".join(traceback.format_exception(error))}, []


def load() -> None:
    """What is set up when it is first used: better before there is a file."""
    load_scipy()
    calls.load()


if __name__ == "__main__":
    serve_forks(load, serve)
