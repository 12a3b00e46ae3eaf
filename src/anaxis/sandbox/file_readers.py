"""Reading a camera file apart: a fork server with the format libraries loaded, each of whose forks reads one file.

A task is {"path", "max_bytes", "memory_mb", "wall_s", "answer_bytes", "layout", "within"}; the answer is one block, a scene's
archive, or {"sentence", "code"}.
"""

from __future__ import annotations

from anaxis.sandbox.confined import begin_confined

if __name__ == "__main__":
    begin_confined()

import resource
import signal
import socket
import sys
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

from anaxis.core.errors import BadInput
from anaxis.formats import FORMATS, ZIP_SUFFIX, read_file
from anaxis.formats.zip_upload import UNPACKED_TIMES
from anaxis.library.archive import scene_to_bytes
from anaxis.sandbox.budget import allow_more, load_scipy
from anaxis.sandbox.fork_server import serve_forks
from anaxis.sandbox.messages import Document, receive, send


def load(only: str = "") -> None:
    """Load the format libraries: all, or what reads files of one suffix."""
    only = "" if only == ZIP_SUFFIX else only
    for entry in FORMATS:
        if not only or only in entry.suffixes:
            entry.reader()
    if not only:  # what waits for any file; what was started for one has no time for more
        load_scipy()
        _warm_up()


# Libraries set up plugins and tables when they read their first file: better before there is one.
_SMALL = {
    ".usda": '#usda 1.0\n(metersPerUnit = 1 upAxis = "Y")\ndef Xform "x" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 2: (1, 0, 0) }\n'
    'uniform token[] xformOpOrder = ["xformOp:translate"]\ndef Camera "c" { float focalLength = 30 } }\n',
    ".csv": "frame,x,y,z,rx,ry,rz\n1,0,1,0,0,0,0\n2,1,1,0,0,9,0\n",
    ".gltf": '{"asset": {"version": "2.0"}, "nodes": [{"camera": 0}], "cameras": [{"type": "perspective", "perspective": {"yfov": 1, "znear": 1}}]}',
    ".dae": '<COLLADA version="1.4.1"><library_visual_scenes><visual_scene><node/></visual_scene></library_visual_scenes></COLLADA>',
}


def _warm_up() -> None:
    with TemporaryDirectory(prefix="anaxis-warm-") as folder:
        for suffix, text in _SMALL.items():
            path = Path(folder) / f"small{suffix}"
            path.write_text(text)
            with suppress(BadInput):
                scene_to_bytes(read_file(path))


def serve(line: socket.socket, taken_bytes: int) -> None:
    """Read the one file that is asked for."""
    task = receive(line)[0]
    try:
        answer, blocks = {}, [_read(task, taken_bytes)]
    except BadInput as error:
        answer, blocks = error.as_dict(), []
    send(line, answer, blocks)


def _read(task: Document, taken_bytes: int) -> bytes:
    path = Path(str(task["path"]))
    allow_more(int(task["memory_mb"]), taken_bytes)
    # The budget begins with the file: what starting took is not counted.
    used = sum(resource.getrusage(resource.RUSAGE_SELF)[:2])
    seconds = int(used + int(task["wall_s"])) + 1
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    signal.alarm(int(task["wall_s"]))
    # What a zip unpacks to is counted beforehand; this holds for a reader gone wild.
    most = (UNPACKED_TIMES + 1) * int(task["max_bytes"])
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))
    try:
        within = Path(str(task["within"])) if task["within"] else None
        return scene_to_bytes(read_file(path, int(task["max_bytes"]), task["layout"], within))
    except BadInput:
        raise
    except MemoryError as error:
        raise BadInput(
            f"{path.name} needs more than {task['memory_mb']} MB of memory to read: export the camera without its geometry.",
            "too_large",
        ) from error
    except Exception as error:
        name = type(error).__name__
        raise BadInput(
            f"{path.name} cannot be read ({name}): it may be damaged; export it again.", "damaged"
        ) from error


if __name__ == "__main__":
    serve_forks(lambda: load(*sys.argv[2:]), serve)
