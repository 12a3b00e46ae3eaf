"""How a process that works on what came in is started, and how it begins: confined before it loads anything.

Such a process runs one module of this package, whose first statement is :func:`begin_confined`: nothing but the standard
library is loaded before, so that no thread of a library runs free. ``python -m anaxis.sandbox.confined FOLDER`` confines
itself and prints what this machine does not allow, a line each.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from anaxis.sandbox.confine import confine

_KEPT_ENVIRONMENT = ("PATH", "LANG", "LC_ALL", "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")


def clean_environment(folder: Path) -> dict[str, str]:
    """The environment of a process that works on what came in: nothing of ours, and its own folder to put things aside."""
    return {k: os.environ[k] for k in _KEPT_ENVIRONMENT if k in os.environ} | {"TMPDIR": str(folder)}


def confined(module: str, folder: Path, *args: str) -> list[str]:
    """The command that runs a module of this package, confined to a folder: the only one that it may write to."""
    # -P: never import from the current folder, which may hold the uploaded file.
    return [sys.executable, "-P", "-m", f"{__package__}.{module}", str(folder), *args]


def begin_confined() -> list[str]:
    """Confine this process to the folder that it was started with, and work there; returns what could not be had."""
    folder = sys.argv.pop(1)
    os.chdir(folder)
    return confine(Path(folder))


if __name__ == "__main__":
    print("\n".join(begin_confined()))
