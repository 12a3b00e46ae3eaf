"""The process that has the readers loaded and forks for each file. Run by :mod:`anaxis.work.sandbox.readers`.

It is confined before it loads anything, to the folder that the folders of all its readers lie in; it never opens a file
that came in, and has one thread, so that a fork of it is whole. Each fork is confined once more, to its own folder, reads
one file and ends. What is wanted comes in over an inherited socket: a folder's name with two ends of lines, one for the
task and its answer (:mod:`anaxis.work.sandbox.parser`), one on which the process is told of and, later, how it ended.
"""

from __future__ import annotations

import ctypes
import gc
import os
import select
import signal
import socket
import sys
import tempfile
from pathlib import Path

from anaxis.work.sandbox.budget import addressed_bytes
from anaxis.work.sandbox.confine import confine_more
from anaxis.work.sandbox.parser import load, serve

_DIE_WITH_PARENT = 1
_MOST = 4096


def main() -> None:
    line = socket.socket(fileno=int(sys.argv[1]))
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    os.dup2(silence, 2)
    load(sys.argv[2] if len(sys.argv) > 2 else "")
    gc.collect()
    gc.freeze()  # what is loaded is shared by all forks, and no collection of theirs touches it
    _forks(line, addressed_bytes())


def _forks(line: socket.socket, taken_bytes: int) -> None:
    """A process for each folder named, until the other end of the line is gone; ends are told as they come."""
    living: dict[
        int, tuple[int, socket.socket]
    ] = {}  # by the descriptor of the process: its number, the line it is told on
    poll = select.poll()
    poll.register(line.fileno(), select.POLLIN)
    while True:
        for ready, _ in poll.poll():
            if ready == line.fileno():
                name, ends, _, _ = socket.recv_fds(line, _MOST, 2)
                if not name:
                    return
                task, told = (socket.socket(fileno=end) for end in ends)
                pid = os.fork()
                if pid == 0:
                    line.close()
                    for _, other in living.values():
                        other.close()
                    told.close()
                    _read_one(Path(name.decode()), task, taken_bytes)
                task.close()
                process = os.pidfd_open(pid)
                socket.send_fds(told, [b"P"], [process])
                living[process] = pid, told
                poll.register(process, select.POLLIN)
            else:
                pid, told = living.pop(ready)
                poll.unregister(ready)
                _tell_the_end(pid, told)
                os.close(ready)


def _tell_the_end(pid: int, told: socket.socket) -> None:
    code = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
    with told:
        try:
            told.send(code.to_bytes(4, "little", signed=True))
        except OSError:  # nobody wants to know any more
            return


def _read_one(folder: Path, task: socket.socket, taken_bytes: int) -> None:
    """What a fork does; it never comes back."""
    try:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL, 0, 0, 0)
        os.chdir(folder)
        confine_more(folder)
        os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
        with task.makefile("rb") as asked, task.makefile("wb") as answer:
            serve(asked, answer, taken_bytes)
    finally:
        os._exit(1)


if __name__ == "__main__":
    main()
