"""Calculating processes: what a file's content decides after it was read is worked out apart, within one budget.

A bake over nodes that lie a billion frames apart, or checks of thousands of cameras, end in a sentence after the
budget's seconds or megabytes, and the process of the pages stays as large as it was. Processes are used again.
"""

from __future__ import annotations

import copy
import os
import shutil
import socket
import subprocess
import threading
import time
from collections import deque
from typing import Any

from anaxis.core.errors import BadInput
from anaxis.work.metrics import READER_SECONDS
from anaxis.work.sandbox.calculator import receive, send
from anaxis.work.sandbox.confined import clean_environment, confined
from anaxis.work.sandbox.folders import made_for_a_reader
from anaxis.work.sandbox.guard import Limits
from anaxis.work.sandbox.kept import Kept, key_of
from anaxis.work.sandbox.turns import Busy, Turns


class _Calculator:
    """One process and the line to it."""

    def __init__(self, memory_mb: int) -> None:
        ours, theirs = socket.socketpair()
        self._folder = made_for_a_reader()
        self.line = ours
        self.process = subprocess.Popen(
            confined("calculator", self._folder, str(theirs.fileno()), str(memory_mb)),
            stdin=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=clean_environment(self._folder) | {"OPENBLAS_NUM_THREADS": "1"},
            pass_fds=[theirs.fileno()],
            start_new_session=True,
        )
        theirs.close()

    def given(self, asked: dict[str, Any], blocks: list[bytes], deadline: float) -> _Calculator:
        """Send it what is asked; a process that does not take it is ended."""
        self.line.settimeout(max(1.0, deadline - time.monotonic()))
        try:
            send(self.line, asked, blocks)
        except OSError:
            self.end()
            raise
        return self

    def end(self) -> None:
        self.line.close()
        if self.process.poll() is None:
            self.process.kill()
        self.process.wait()
        shutil.rmtree(self._folder, ignore_errors=True)


class Calculators:
    """A few processes, one for each turn; started when they are first needed, replaced when they end."""

    def __init__(self, limits: Limits, slots: int | None = None, keeps_bytes: int = 0) -> None:
        self._limits = limits
        self._kept = Kept(keeps_bytes) if keeps_bytes else None
        self._turns = Turns(slots or max(2, os.cpu_count() or 2))
        self._idle: deque[_Calculator] = deque()
        self._lock = threading.Lock()

    def ask(
        self, function: str, given: dict[str, Any], blocks: list[bytes], what: str
    ) -> tuple[dict[str, Any], list[bytes]]:
        """The answer of ``function`` ("module:function") to a document and blocks, worked out apart.

        Raises BadInput, also where it took longer or needed more than the budget, naming ``what``. What was answered
        before is answered again at once, a sentence too: an answer follows from what is given alone.
        """
        if self._kept is None:
            return self._worked_out(function, given, blocks, what)
        key = key_of(function, given, blocks, what)
        answer = self._kept.get(key)
        if answer is None:
            try:
                answer = self._worked_out(function, given, blocks, what)
            except Busy:
                raise
            except BadInput as error:
                answer = error
            self._kept.put(key, answer)
        if isinstance(answer, BadInput):
            raise BadInput(answer.sentence, answer.code)
        return copy.deepcopy(answer[0]), list(answer[1])

    def _worked_out(
        self, function: str, given: dict[str, Any], blocks: list[bytes], what: str
    ) -> tuple[dict[str, Any], list[bytes]]:
        with self._turns.turn(), READER_SECONDS.labels("calculation").time():
            calculator = self._free()
            # The budget counts from when the process works; a fresh one takes a moment to start.
            deadline = time.monotonic() + self._limits.wall_s + 5
            try:
                calculator = self._sent(
                    calculator, {"function": function, "given": given, "what": what}, blocks, deadline
                )
                answer, made = receive(_Until(calculator.line, deadline), self._limits.answer_bytes)  # type: ignore[arg-type]
            except TimeoutError as error:
                calculator.end()
                raise BadInput(
                    f"{what} took longer than {self._limits.wall_s} s to be looked through and was given up: export the camera alone, over the "
                    "shot's range, or raise the limit (ANAXIS_FILE_SECONDS).",
                    "too_slow",
                ) from error
            except (EOFError, OSError, ValueError) as error:
                calculator.end()
                raise BadInput(
                    f"{what} made the process that looked through it stop, in all likelihood for want of memory ({self._limits.memory_mb} MB): export "
                    "the camera alone, over the shot's range, or raise the limit (ANAXIS_FILE_MB).",
                    "too_large",
                ) from error
            except BaseException:
                calculator.end()
                raise
            with self._lock:
                self._idle.append(calculator)
        if "sentence" in answer:
            raise BadInput.from_dict(answer)
        if "failed" in answer:
            raise RuntimeError(f"{function} failed on {what}:\n{answer['failed']}")
        return answer["answer"], made

    def _free(self) -> _Calculator:
        while True:
            with self._lock:
                calculator = self._idle.popleft() if self._idle else None
            if calculator is None:
                return _Calculator(self._limits.memory_mb)
            if calculator.process.poll() is None:
                return calculator
            calculator.end()

    def _sent(
        self, calculator: _Calculator, asked: dict[str, Any], blocks: list[bytes], deadline: float
    ) -> _Calculator:
        """Who was asked: the calculator, or a fresh one where that had just ended, grown too large."""
        try:
            return calculator.given(asked, blocks, deadline)
        except (BrokenPipeError, ConnectionResetError):
            return _Calculator(self._limits.memory_mb).given(asked, blocks, deadline)

    def close(self) -> None:
        with self._lock:
            while self._idle:
                self._idle.popleft().end()


class _Until:
    """A line on which reading stops at a moment, not so long after the last byte."""

    def __init__(self, line: socket.socket, deadline: float) -> None:
        self._line, self._deadline = line, deadline

    def recv(self, count: int) -> bytes:
        left = self._deadline - time.monotonic()
        if left <= 0:
            raise TimeoutError
        self._line.settimeout(left)
        return self._line.recv(count)
