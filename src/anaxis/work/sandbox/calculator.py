"""The calculating process: works on what a file held, within one budget of memory. Run by :mod:`anaxis.work.sandbox.calculators`.

It reads frames from an inherited socket: a JSON header that names a function ("module:function" of this package) and
what it takes, and blocks of bytes. The function answers with a document and blocks; what a person can mend comes
back as a sentence.
"""

from __future__ import annotations

import errno
import json
import os
import socket
import sys
import traceback
from importlib import import_module
from typing import Any

from anaxis.core.errors import BadInput
from anaxis.work.sandbox.budget import allow_more, held_bytes, load_scipy

# A process that has grown by so much is replaced by a fresh one.
_GROWN_MB = 300


def send(line: socket.socket, document: dict[str, Any], blocks: list[bytes]) -> None:
    """One frame: the length of its header, the header, the blocks one behind another."""
    head = json.dumps({"document": document, "sizes": [len(b) for b in blocks]}).encode()
    line.sendall(len(head).to_bytes(8, "little") + head)
    for block in blocks:
        line.sendall(block)


def receive(line: socket.socket, most: int) -> tuple[dict[str, Any], list[bytes]]:
    """The inverse of :func:`send`. Raises EOFError where the other end is gone, ValueError for over ``most`` bytes."""
    size = int.from_bytes(_exactly(line, 8), "little")
    if size > most:
        raise ValueError("too much")
    head = json.loads(_exactly(line, size))
    if sum(head["sizes"]) > most:
        raise ValueError("too much")
    return head["document"], [_exactly(line, n) for n in head["sizes"]]


def _exactly(line: socket.socket, count: int) -> bytes:
    parts = bytearray()
    while len(parts) < count:
        got = line.recv(min(count - len(parts), 1 << 20))
        if not got:
            raise EOFError
        parts += got
    return bytes(parts)


def main() -> None:
    line = socket.socket(fileno=int(sys.argv[1]))
    memory_mb = int(sys.argv[2])
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    import_module("anaxis.app.examined")
    load_scipy()
    grown = held_bytes() + (_GROWN_MB << 20)
    allow_more(memory_mb)
    while True:
        try:
            asked, blocks = receive(line, 1 << 62)
        except (EOFError, OSError):
            return
        send(line, *_answer(asked, blocks, memory_mb))
        del blocks
        if held_bytes() > grown:
            return


def _answer(asked: dict[str, Any], blocks: list[bytes], memory_mb: int) -> tuple[dict[str, Any], list[bytes]]:
    module, _, name = str(asked["function"]).partition(":")
    try:
        document, made = getattr(import_module(module), name)(asked["given"], blocks)
        return {"answer": document}, made
    except BadInput as error:
        return dict(error.as_dict()), []
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EDQUOT):
            return {"failed": "".join(traceback.format_exception(error))}, []
        sentence = "The disk is full; nothing was changed. Make room on it, then try again."
        return dict(BadInput(sentence, "disk_full").as_dict()), []
    except Exception as error:
        if isinstance(error, MemoryError) or "allocate" in str(error).lower():
            return _too_large(asked, memory_mb), []
        # Ours to mend: it goes to the log of the pages, not to the person as a word about the file.
        return {"failed": "".join(traceback.format_exception(error))}, []


def _too_large(asked: dict[str, Any], memory_mb: int) -> dict[str, Any]:
    return {
        "sentence": f"{asked['what']} needs more than {memory_mb} MB of memory to be looked through: export the camera without its geometry, "
        "over the shot's range.",
        "code": "too_large",
    }


if __name__ == "__main__":
    main()
