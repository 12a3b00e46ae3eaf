"""Pictures that cannot be trusted: decoded in a process of its own, which answers with a PNG of our making.

Run as ``python -m anaxis.jobs.pictures FILE``: one letter and a body on standard output, S and the PNG or E and
a sentence.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
from pathlib import Path

from anaxis.core.errors import BadInput

_WALL_S, _MEMORY_MB = 60, 4000


def safe_png(path: Path) -> bytes:
    """A PNG, JPEG or EXR as a PNG; raises BadInput, also where the decoder crashed or hung."""
    environment = {k: os.environ[k] for k in ("PATH", "LANG", "TMPDIR") if k in os.environ}
    try:
        done = subprocess.run(
            [sys.executable, "-P", "-m", "anaxis.jobs.pictures", str(path)], capture_output=True, timeout=_WALL_S, env=environment
        )  # fmt: skip
    except subprocess.TimeoutExpired as error:
        raise BadInput(
            f"{path.name} took longer than {_WALL_S} s to read and was given up: hand over a smaller picture."
        ) from error
    if done.stdout[:1] == b"S":
        return done.stdout[1:]
    if done.stdout[:1] == b"E":
        raise BadInput(done.stdout[1:].decode())
    raise BadInput(f"{path.name} made its reader stop: it is damaged or far too large; render it again.")


def main() -> None:
    memory = _MEMORY_MB << 20
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (_WALL_S, _WALL_S + 1))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from anaxis.stills import read_picture, to_png

    try:
        answer = b"S" + to_png(read_picture(Path(sys.argv[1])))
    except BadInput as error:
        answer = b"E" + error.sentence.encode()
    sys.stdout.buffer.write(answer)


if __name__ == "__main__":
    main()
