"""The parsing process: reads one file, answers once, ends. Run as ``python -m anaxis.jobs.parser``.

It waits, with the format libraries loaded, for one line of JSON on standard input
(``{"path", "max_bytes", "memory_mb", "cpu_s"}``) and answers on standard output with one letter
and a body: S and a scene archive, or E and a sentence.
"""

from __future__ import annotations

import json
import os
import resource
import sys
from importlib import import_module
from pathlib import Path
from typing import BinaryIO

from anaxis.core.errors import BadInput
from anaxis.formats import FORMATS, read_file
from anaxis.formats.scene_archive import scene_to_bytes


def main() -> None:
    # The answer goes to a copy of standard output; whatever a library prints goes nowhere.
    answer = os.fdopen(os.dup(1), "wb")
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    os.dup2(silence, 2)
    for entry in FORMATS:
        if entry.read:
            import_module(f"anaxis.formats.{entry.read.split(':')[0]}")
    line = sys.stdin.readline()
    if line.strip():
        _serve(json.loads(line), answer)


def _serve(task: dict[str, int | str], answer: BinaryIO) -> None:
    path = Path(str(task["path"]))
    memory = int(task["memory_mb"]) << 20
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (int(task["cpu_s"]), int(task["cpu_s"]) + 1))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        body = b"S" + scene_to_bytes(read_file(path, int(task["max_bytes"])))
    except BadInput as error:
        body = b"E" + error.sentence.encode()
    except MemoryError:
        body = (
            b"E"
            + (
                f"{path.name} needs more than {task['memory_mb']} MB of memory to read: export the camera "
                "without its geometry."
            ).encode()
        )
    except Exception as error:
        body = (
            b"E"
            + (
                f"{path.name} cannot be read ({type(error).__name__}): it may be damaged; export it again."
            ).encode()
        )
    answer.write(body)
    answer.flush()
    # Libraries with threads of their own can hang or crash while they are torn down.
    os._exit(0)


if __name__ == "__main__":
    main()
