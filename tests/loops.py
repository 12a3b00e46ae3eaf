"""A watch over an event loop: what keeps it for too long keeps every page waiting."""

from __future__ import annotations

import asyncio
import gc
import sys
import threading
import time
import traceback
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

# Of processor time of the loop's own thread: what a busy machine does beside is not counted, nor the collection of garbage,
# which here goes through all that the tests hold.
MOST_S = 0.05


class _Collecting(threading.local):
    """Processor time that this thread has spent on collecting garbage."""

    began = 0.0
    seconds = 0.0


_collecting = _Collecting()


def _collected(phase: str, info: dict[str, int]) -> None:
    if phase == "start":
        _collecting.began = time.thread_time()
    else:
        _collecting.seconds += time.thread_time() - _collecting.began


gc.callbacks.append(_collected)


class WatchedLoop(asyncio.SelectorEventLoop):
    """Notes each callback that takes the processor for longer than ``MOST_S`` while it is watched, and where it was then."""

    def __init__(self) -> None:
        super().__init__()
        self.watched = False
        self.slow: list[tuple[float, str]] = []
        self.began = 0.0
        self.seen = ""

    def run_forever(self) -> None:
        threading.Thread(target=self._look, args=(threading.get_ident(),), daemon=True).start()
        super().run_forever()

    def _look(self, thread: int) -> None:
        while not self.is_closed():
            time.sleep(MOST_S)
            began = self.began
            if self.watched and began and time.monotonic() - began > MOST_S and not self.seen:
                frame = sys._current_frames().get(thread)
                lines = [
                    f"{f.filename.rsplit('/site-packages/')[-1]}:{f.lineno} {f.name}"
                    for f in traceback.extract_stack(frame)
                ]
                self.seen = " < ".join(reversed(lines[-12:]))


_run = asyncio.Handle._run


def _timed(self: asyncio.Handle) -> None:
    loop = self._loop  # type: ignore[attr-defined]
    if not (isinstance(loop, WatchedLoop) and loop.watched):
        _run(self)
        return
    loop.seen, loop.began, began, before = "", time.monotonic(), time.thread_time(), _collecting.seconds
    _run(self)
    seconds, loop.began = time.thread_time() - began - (_collecting.seconds - before), 0.0
    if seconds > MOST_S:
        loop.slow.append((seconds, loop.seen or repr(self)))


asyncio.Handle._run = _timed  # type: ignore[method-assign]


# A machine that runs this one may stop it for a moment (0.65 s was seen), which counts as its own time: that happens anywhere and once. What keeps the
# loop does so in one place again and again, or for so long that nothing else explains it.
_CERTAIN_S, _AGAIN = 2.0, 3


@contextmanager
def not_kept_waiting(loop: WatchedLoop) -> Iterator[None]:
    """Fails where something kept the loop for too long meanwhile: long, or several times in the same function."""
    loop.slow.clear()
    loop.watched = True
    try:
        yield
    finally:
        loop.watched = False
    places = Counter(where.partition(" < ")[0] for _, where in loop.slow)
    sure = [
        f"{s * 1000:.0f} ms in {where}"
        for s, where in loop.slow
        if s > _CERTAIN_S or places[where.partition(" < ")[0]] >= _AGAIN
    ]
    assert not sure, "the server's event loop was kept for\n" + "\n".join(sure)
