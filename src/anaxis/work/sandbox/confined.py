"""``python -m anaxis.work.sandbox.confined FOLDER MODULE ARGS``: a module's ``main`` in a process that is confined first.

Nothing but the standard library is loaded before, so that no thread of a library runs free. FOLDER is the only one that
may be written. With ``check`` in the place of a module it says what could not be had, a line each.
"""

from __future__ import annotations

import os
import sys
from importlib import import_module
from pathlib import Path

from anaxis.work.sandbox.confine import confine

_KEPT_ENVIRONMENT = ("PATH", "LANG", "LC_ALL", "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")


def clean_environment(folder: Path) -> dict[str, str]:
    """The environment of a process that works on what came in: nothing of ours, and its own folder to put things aside."""
    return {k: os.environ[k] for k in _KEPT_ENVIRONMENT if k in os.environ} | {"TMPDIR": str(folder)}


def confined(module: str, folder: Path, *args: str) -> list[str]:
    """The command that runs a module of this package confined to a folder."""
    # -P: never import from the current folder, which may hold the uploaded file.
    return [sys.executable, "-P", "-m", "anaxis.work.sandbox.confined", str(folder), module, *args]


def main() -> None:
    folder, module = sys.argv[1:3]
    os.chdir(folder)
    missing = confine(Path(folder))
    if module == "check":
        print("\n".join(missing))
        return
    sys.argv = [module, *sys.argv[3:]]
    import_module(f"anaxis.work.sandbox.{module}").main()


if __name__ == "__main__":
    main()
