"""What a file's content decides after it was read is worked out apart, within a budget. Processes are used again.

A bake over nodes that lie a billion frames apart, or checks of thousands of cameras, end in a sentence after the
budget's seconds or megabytes, and the process of the pages stays as large as it was.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from typing import ParamSpec, TypeVar

from anaxis.core.errors import BadInput
from anaxis.monitoring.timing import timed
from anaxis.sandbox.calls import question_of, value_in
from anaxis.sandbox.forks import Fork, ForkEnded, ForkSource, Gone, again
from anaxis.sandbox.guard import Limits
from anaxis.sandbox.kept import AnswerCache, key_of
from anaxis.sandbox.messages import BadMessage, Message
from anaxis.sandbox.turns import Busy, Turns

P = ParamSpec("P")
T = TypeVar("T")
_CALCULATIONS = ForkSource("calculations")


class Calculators:
    """Does functions of the library apart, some at once; see :class:`anaxis.library.runner.Runner`.

    With ``keeps_bytes`` what was answered before is answered again at once, a sentence too: an answer follows from what is
    given alone. ``ready`` loads the library at once, else when it is first wanted.
    """

    def __init__(self, limits: Limits, slots: int | None = None, keeps_bytes: int = 0, ready: bool = False) -> None:
        self._limits = limits
        self._kept = AnswerCache(keeps_bytes) if keeps_bytes else None
        self._turns = Turns(slots or max(2, os.cpu_count() or 2))
        self._idle: list[Fork] = []
        self._lock = threading.Lock()
        if ready:
            _CALCULATIONS.start()

    def run(self, what: str, function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
        """What ``function`` gives. Raises BadInput, also Busy and where it took longer or needed more than the budget."""
        document, blocks = question_of(function, args, kwargs)
        asked = document | {"what": what, "memory_mb": self._limits.memory_mb}, blocks
        value: T = value_in(function, *self._answer(what, asked))
        return value

    def close(self) -> None:
        """No process of it is left."""
        with self._lock:
            while self._idle:
                self._idle.pop().end()

    def _answer(self, what: str, asked: Message) -> Message:
        if self._kept is None:
            return self._worked_out(what, asked)
        key = key_of(*asked)
        answer = self._kept.get(key)
        if answer is None:
            try:
                answer = self._worked_out(what, asked)
            except Busy:
                raise
            except BadInput as error:
                answer = error
            self._kept.put(key, answer)
        if isinstance(answer, BadInput):
            raise BadInput(answer.sentence, answer.code)
        return answer

    def _worked_out(self, what: str, asked: Message) -> Message:
        limits = self._limits
        # The budget counts from when the process works.
        seconds = limits.wall_s + 5

        with self._turns.turn(), timed("calculation"):
            try:
                answer, blocks = again(lambda: self._ask(asked, seconds))
            except TimeoutError as error:
                raise BadInput(
                    f"{what} took longer than {limits.wall_s} s and was stopped: export only the camera over the range of the shot, or raise the limit (ANAXIS_FILE_SECONDS)."
                    "",
                    "too_slow",
                ) from error
            except Gone as error:
                raise BadInput(
                    f"{what} was not processed: its process ended twice (is this machine out of memory?). Try again."
                ) from error
            except (ForkEnded, BadMessage) as error:
                raise BadInput(
                    f"{what} made its process stop, probably for lack of memory ({limits.memory_mb} MB): export only the camera over the range of the shot, or raise the limit (ANAXIS_FILE_MB)."
                    "",
                    "too_large",
                ) from error
        if "sentence" in answer:
            raise BadInput.from_dict(answer)
        if "failed" in answer:
            raise RuntimeError(f"{asked[0]['function']} failed on {what}:\n{answer['failed']}")
        return answer, blocks

    def _ask(self, asked: Message, seconds: float) -> Message:
        fork = self._free() or _CALCULATIONS.start().fork()
        try:
            fork.send(asked[0], seconds, asked[1])
            answer = fork.receive(seconds, self._limits.answer_bytes)
        except BaseException:
            fork.end()
            raise
        with self._lock:
            self._idle.append(fork)
        return answer

    def _free(self) -> Fork | None:
        """A process that has nothing to do; those that have ended, grown too large, are cleared away."""
        while True:
            with self._lock:
                fork = self._idle.pop() if self._idle else None
            if fork is None or fork.living:
                return fork
            fork.end()
