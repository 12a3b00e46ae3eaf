"""How another process of this program is started."""

from __future__ import annotations

import sys


def anaxis_command(*args: str) -> list[str]:
    """A command of ours, run by this Python; nothing is imported from the current folder."""
    return [sys.executable, "-P", "-m", str(__package__), *args]
