"""How another process of this program is started, and ends with the one that started it."""

from __future__ import annotations

import ctypes
import signal
import sys

_SIGNAL_AT_PARENTS_END = 1


def anaxis_command(*args: str) -> list[str]:
    """A command of ours, run by this Python; nothing is imported from the current folder."""
    return [sys.executable, "-P", "-m", str(__package__), *args]


def end_with_parent() -> None:
    """This process is killed when the thread that started it ends, even if that one is killed. Source: prctl(2), PR_SET_PDEATHSIG."""
    ctypes.CDLL(None).prctl(_SIGNAL_AT_PARENTS_END, signal.SIGKILL, 0, 0, 0)
