"""What was last worked out of a row that many transactions read, by the row's number: kept between them by one server."""

from __future__ import annotations

import threading
from collections import OrderedDict
from typing import Generic, TypeVar

V = TypeVar("V")


class Mirrors(Generic[V]):
    """The newest value of at most ``most`` rows, each with the sequence (a number that only rises) that it is of."""

    def __init__(self, most: int = 64) -> None:
        self._values: OrderedDict[int, tuple[int, V]] = OrderedDict()
        self._most, self._lock = most, threading.Lock()

    def get(self, number: int) -> tuple[int, V] | None:
        with self._lock:
            return self._values.get(number)

    def put(self, number: int, sequence: int, value: V) -> None:
        with self._lock:
            known = self._values.get(number)
            if known is None or known[0] < sequence:
                self._values[number] = (sequence, value)
                self._values.move_to_end(number)
            while len(self._values) > self._most:
                self._values.popitem(last=False)
