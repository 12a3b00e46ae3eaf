"""Answers that were worked out already, as many as a few megabytes hold: a page looked at again asks for nothing twice."""

from __future__ import annotations

import hashlib
import json
import threading
import time
from collections import OrderedDict

from anaxis.core.errors import BadInput
from anaxis.sandbox.messages import Document, Message

# "It took too long" may be another's doing: after so long it is tried again.
_SENTENCE_S = 120.0
Answer = Message | BadInput


def key_of(document: Document, blocks: list[bytes]) -> bytes:
    """Two questions with one key have one answer."""
    digest = hashlib.blake2b(json.dumps([document, [len(b) for b in blocks]], sort_keys=True).encode())
    for block in blocks:
        digest.update(block)
    return digest.digest()


class AnswerCache:
    """The answers asked for last, of ``most_bytes`` in all; those that are sentences too."""

    def __init__(self, most_bytes: int) -> None:
        self._most, self._held = most_bytes, 0
        self._answers: OrderedDict[bytes, tuple[int, float, Answer]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: bytes) -> Answer | None:
        with self._lock:
            found = self._answers.get(key)
            if found is None:
                return None
            _, at, answer = found
            if isinstance(answer, BadInput) and time.monotonic() - at > _SENTENCE_S:
                return None
            self._answers.move_to_end(key)
            return answer

    def put(self, key: bytes, answer: Answer) -> None:
        size = 1000 if isinstance(answer, BadInput) else len(json.dumps(answer[0])) + sum(map(len, answer[1]))
        if size > self._most // 4:
            return
        with self._lock:
            self._held += size - self._answers.pop(key, (0, 0.0, answer))[0]
            self._answers[key] = (size, time.monotonic(), answer)
            while self._held > self._most:
                self._held -= self._answers.popitem(last=False)[1][0]
