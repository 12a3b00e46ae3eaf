"""How long the command line takes to start: ``--version`` and ``--help``, and ``inspect`` until it reads a small file.

Ratios to a bare interpreter of the same run, and processor seconds beside them; the figures to hold are 0.25 s for
the first two and 0.6 s for the third (docs/command-line.md).
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from sizes import sized

RUNS = sized(7, 1)
SMALL = '#usda 1.0\n(\n metersPerUnit = 0.01\n upAxis = "Y"\n)\ndef Camera "c"\n{\n float focalLength = 30\n}\n'
# The reading process as the command starts it, up to where it would open the file.
READER = "from anaxis.sandbox.file_readers import load; load('.usda')"
PARENT = "import anaxis.cli, anaxis.cli.inspect"


def cpu_s(*command: str) -> float:
    """The least processor time of a command and its children, over a few runs."""
    best = float("inf")
    for _ in range(RUNS):
        before = os.times()
        subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
        after = os.times()
        best = min(best, after.children_user - before.children_user + after.children_system - before.children_system)
    return best


def main() -> None:
    anaxis = str(Path(sys.executable).parent / "anaxis")
    bare = cpu_s(sys.executable, "-c", "pass")
    parent = cpu_s(sys.executable, "-c", PARENT)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "small.usda"
        path.write_text(SMALL)
        rows = {
            "--version": cpu_s(anaxis, "--version"),
            "--help": cpu_s(anaxis, "--help"),
            "inspect, until it reads": parent + cpu_s(sys.executable, "-P", "-c", READER) - bare,
            "inspect, all of it": cpu_s(anaxis, "inspect", str(path)),
        }
    print(f"a bare interpreter: {bare:.3f} s")
    for what, taken in rows.items():
        print(f"anaxis {what}: {taken:.3f} s of processor time, {taken / bare:.1f} times a bare interpreter")


if __name__ == "__main__":
    main()
