"""Messages as they go over the wire: JSON, and binary for changes of many frames."""

from __future__ import annotations

import json
import struct
from typing import Any

from anaxis_exchange.host import GROUPS

# A change of so many frames or more is one binary message.
MANY = 64
_NAN = float("nan")


def wired(message: dict[str, Any]) -> str | bytes:
    """A message as text; one that holds many frames, of a change or of what is ``held``, as bytes."""
    if message["type"] == "change":
        cells, head = message, {k: v for k, v in message.items() if k not in ("frames", "values")}
    else:
        cells, head = message.get("held") or {}, {k: v for k, v in message.items() if k != "held"}
    frames = cells.get("frames", ())
    if len(frames) < MANY:
        return json.dumps(message, allow_nan=False)
    groups = [g for g in GROUPS if g in cells["values"]]
    text = json.dumps({**head, "groups": groups, "count": len(frames)}, allow_nan=False).encode()
    text += b" " * (-(len(text) + 4) % 8)
    body = []
    for at, frame in enumerate(frames):
        body.append(float(frame))
        for group in groups:
            body += [_NAN if v is None else float(v) for v in cells["values"][group][at]]
    return struct.pack("<I", len(text)) + text + struct.pack(f"<{len(body)}d", *body)


def unwired(data: str | bytes) -> dict[str, Any]:
    """The message of some text or bytes. Raises ValueError for what is none."""
    if isinstance(data, str):
        message = json.loads(data)
    else:
        (size,) = struct.unpack_from("<I", data)
        message = json.loads(data[4 : 4 + size])
        groups, count = message.pop("groups"), message.pop("count")
        width = 1 + sum(GROUPS[g] for g in groups)
        numbers = struct.unpack_from(f"<{count * width}d", data, (4 + size + 7) // 8 * 8)
        rows = [[None if v != v else v for v in numbers[i * width : (i + 1) * width]] for i in range(count)]
        message["frames"], at = [row[0] for row in rows], 1
        message["values"] = {}
        for group in (g for g in GROUPS if g in groups):
            message["values"][group] = [row[at : at + GROUPS[group]] for row in rows]
            at += GROUPS[group]
    if not isinstance(message, dict) or "type" not in message:
        raise ValueError("a message is an object with a type")
    return message
