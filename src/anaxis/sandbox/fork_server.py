"""A process that has libraries loaded and forks for each task: what :mod:`anaxis.sandbox.forks` starts.

It is confined before it loads anything, to the folder that the folders of all its forks lie in; it never opens a file
that came in, and has one thread, so that a fork of it is whole. Each fork is confined once more, to its own folder, does
one task and ends. What is wanted comes in over an inherited socket: a folder's name with two ends of lines, one for the
task and its answers (:mod:`anaxis.sandbox.messages`), one on which the process is told of and, later, how it ended.
"""

from __future__ import annotations

import gc
import os
import select
import signal
import socket
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from anaxis.program import end_with_parent
from anaxis.sandbox.budget import addressed_bytes
from anaxis.sandbox.confine import confine_more

_LONGEST_NAME = 4096
# Does one task that comes in on a line; it is told how many addresses its process has taken before.
Serve = Callable[[socket.socket, int], None]


def serve_forks(load: Callable[[], None], serve: Serve) -> None:
    """Load once, then a fork that serves for each folder named, until the other end of the line is gone."""
    line = socket.socket(fileno=int(sys.argv[1]))
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    os.dup2(silence, 2)
    load()
    gc.collect()
    gc.freeze()  # what is loaded is shared by all forks, and no collection of theirs touches it
    _forks(line, serve, addressed_bytes())


def _forks(line: socket.socket, serve: Serve, taken_bytes: int) -> None:
    living: dict[
        int, tuple[int, socket.socket]
    ] = {}  # by the descriptor of the process: its number, the line it is told on
    poll = select.poll()
    poll.register(line.fileno(), select.POLLIN)
    while True:
        for ready, _ in poll.poll():
            if ready == line.fileno():
                name, ends, _, _ = socket.recv_fds(line, _LONGEST_NAME, 2)
                if not name:
                    return
                task, told = (socket.socket(fileno=end) for end in ends)
                pid = os.fork()
                if pid == 0:
                    line.close()
                    for _, other in living.values():
                        other.close()
                    told.close()
                    _do_one(Path(name.decode()), serve, task, taken_bytes)
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


def _do_one(folder: Path, serve: Serve, task: socket.socket, taken_bytes: int) -> None:
    """What a fork does; it never comes back, and tears nothing down: libraries with threads of their own can hang then."""
    ended = 1
    try:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        end_with_parent()
        os.chdir(folder)
        confine_more(folder)
        os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
        serve(task, taken_bytes)
        ended = 0
    except EOFError:  # whoever asked is gone
        ended = 0
    finally:
        os._exit(ended)
