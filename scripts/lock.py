"""Writes requirements.lock, of what runs, and requirements-dev.lock, of what is added to test and check it.

Needs the package `uv` at hand; names no registry.
"""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
RUNS, ADDED = ROOT / "requirements.lock", ROOT / "requirements-dev.lock"
COMPILE = [
    "uv",
    "pip",
    "compile",
    "pyproject.toml",
    "--quiet",
    "--generate-hashes",
    "--no-annotate",
    "--no-header",
    "--no-emit-index-url",
    "-p",
    "3.11",
]


def compiled(*more: str) -> str:
    done = subprocess.run([*COMPILE, *more], cwd=ROOT, check=True, capture_output=True, text=True)
    return done.stdout


def packages(lock: str) -> dict[str, str]:
    """The lines of each package, by its name and version."""
    return {entry.split(" ", 1)[0]: entry for entry in re.split(r"\n(?=\S)", lock.strip())}


def main() -> None:
    RUNS.write_text(compiled("--extra", "build"))
    runs = packages(RUNS.read_text())
    every = packages(compiled("--extra", "build", "--extra", "dev", "--constraint", RUNS.name))
    ADDED.write_text("\n".join(lines for name, lines in every.items() if name not in runs) + "\n")


if __name__ == "__main__":
    main()
