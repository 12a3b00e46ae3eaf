"""Messages between a process of ours and one that works apart: a document, and blocks of bytes beside it.

On a line (a socket) a message is the length of its header in eight bytes, the header as JSON with the document and the
blocks' sizes, and the blocks one behind another.
"""

from __future__ import annotations

import json
import socket
import time
from collections.abc import Sequence
from typing import Any

Document = dict[str, Any]
Message = tuple[Document, list[bytes]]


# A header is read as JSON, which takes many times its bytes: the arrays are in the blocks.
_LONGEST_HEADER = 64 << 20


class BadMessage(ValueError):
    """The other end sends more than it may, or what is not a message."""


def send(line: socket.socket, document: Document, blocks: Sequence[bytes] = ()) -> None:
    """Send one message. Raises OSError where the other end is gone, TimeoutError by the line's own time-out."""
    head = json.dumps({"document": document, "sizes": [len(b) for b in blocks]}).encode()
    line.sendall(len(head).to_bytes(8, "little") + head)
    for block in blocks:
        line.sendall(block)


def receive(line: socket.socket, most: int = 1 << 62, deadline: float | None = None) -> Message:
    """The next message, of ``most`` bytes, before ``deadline`` (seconds of time.monotonic; None waits for ever).

    The other end may be a process that works on what came in: nothing that it says of its sizes is believed.

    Raises EOFError where the other end is gone, BadMessage, TimeoutError.
    """
    size = int.from_bytes(_exactly(line, 8, deadline), "little")
    if size > min(most, _LONGEST_HEADER):
        raise BadMessage(f"a header of {size} bytes")
    try:
        head = json.loads(_exactly(line, size, deadline))
        document, sizes = dict(head["document"]), [max(0, int(n)) for n in head["sizes"]]
    except (ValueError, TypeError, KeyError, RecursionError) as error:
        raise BadMessage("a header that is none") from error
    if sum(sizes) > most:
        raise BadMessage(f"blocks of {sum(sizes)} bytes")
    return document, [_exactly(line, n, deadline) for n in sizes]


def _exactly(line: socket.socket, count: int, deadline: float | None) -> bytes:
    parts = bytearray()
    while len(parts) < count:
        if deadline is not None:
            left_s = deadline - time.monotonic()
            if left_s <= 0:
                raise TimeoutError
            line.settimeout(left_s)
        try:
            got = line.recv(min(count - len(parts), 1 << 20))
        except ConnectionResetError:
            got = b""
        if not got:
            raise EOFError
        parts += got
    return bytes(parts)
