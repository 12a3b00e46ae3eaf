"""The same host in a package that allows calls of its own from its main thread alone: a timer of that thread drives the exchange.

Most packages offer such a timer. Here the standard library's scheduler stands for it, and for the loop that draws and listens.
"""

from __future__ import annotations

import os
import sched
import sys
import threading
import time
from pathlib import Path

from anaxis_exchange import Exchange
from made_up_host import MadeUpHost

EVERY_S = 0.05


class MainThreadOnly(MadeUpHost):
    """Refuses to be read or written by any other thread, as most packages do."""

    def read(self, camera, frames=None):
        assert threading.current_thread() is threading.main_thread(), "the exchange called from another thread"
        return super().read(camera, frames)

    def write(self, camera, numbers, replaces):
        assert threading.current_thread() is threading.main_thread(), "the exchange called from another thread"
        super().write(camera, numbers, replaces)


def main() -> None:
    file, server, show = Path(sys.argv[1]), sys.argv[2], sys.argv[3]
    exchange = Exchange(
        MainThreadOnly(file), server, file.with_suffix(".journal"), file.stem, show, os.environ.get("ANAXIS_TOKEN", "")
    )
    timer = sched.scheduler(time.monotonic, time.sleep)

    def tick() -> None:
        exchange.step()  # returns at once: the package stays quick
        timer.enter(EVERY_S, 0, tick)

    exchange.start()
    tick()
    timer.run()


if __name__ == "__main__":
    main()
