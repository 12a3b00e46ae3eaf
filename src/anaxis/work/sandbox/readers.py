"""Reading processes: forked from one that has the readers loaded, each for one file, with a folder of its own."""

from __future__ import annotations

import os
import select
import shutil
import signal
import socket
import subprocess
import tempfile
import threading
import time
import weakref
from contextlib import suppress
from pathlib import Path

from anaxis.work.sandbox.confined import clean_environment, confined
from anaxis.work.sandbox.folders import made_for_a_reader

# A process of one thread is whole when it is forked.
_ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1", "PXR_WORK_THREAD_LIMIT": "1", "OMP_NUM_THREADS": "1"}
# Until the process that is forked from has everything loaded, on a busy machine.
_STARTS_S = 60
_ENDS_S = 10


class Gone(OSError):
    """The process that readers are forked from ended; what was asked of it may be asked of another."""


class Readers:
    """The process that readers are forked from, started at once. ``suffix`` names the one format it is to load."""

    def __init__(self, suffix: str = "") -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="readers-"))
        self.folder.chmod(0o711)  # another user comes to the folders in it, and finds none that is not its own
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        own = made_for_a_reader(self.folder)
        self._process = subprocess.Popen(
            confined("fork_server", self.folder, str(theirs.fileno()), *([suffix] if suffix else [])),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=clean_environment(own) | _ONE_THREAD,
            pass_fds=[theirs.fileno()],
            start_new_session=True,
        )
        theirs.close()
        self._line = ours
        self.end = weakref.finalize(self, _ended, self._process, ours, self.folder)

    @property
    def living(self) -> bool:
        """Whether it can be asked."""
        return self.end.alive and self._process.poll() is None

    def reader(self) -> Reader:
        """A process of its own for one file. Raises Gone."""
        folder = made_for_a_reader(self.folder)
        task, theirs = socket.socketpair()
        told, tells = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs, tells:
            try:
                socket.send_fds(self._line, [str(folder).encode()], [theirs.fileno(), tells.fileno()])
            except OSError as error:
                shutil.rmtree(folder, ignore_errors=True)
                task.close()
                told.close()
                raise Gone("it could not be asked") from error
        return Reader(folder, task, told)


def _ended(process: subprocess.Popen[bytes], line: socket.socket, folder: Path) -> None:
    line.close()
    process.kill()
    process.wait()
    shutil.rmtree(folder, ignore_errors=True)


class Reader:
    """One reading process: the line to it, its folder, and how it ended."""

    def __init__(self, folder: Path, task: socket.socket, told: socket.socket) -> None:
        self.folder, self._task, self._told = folder, task, told
        self._process: int | None = None

    def ask(self, task: bytes, seconds: float, most: int) -> bytes:
        """Its answer to a task; what is longer than ``most`` bytes is cut. Raises Gone, TimeoutError."""
        self._begun()
        deadline = time.monotonic() + seconds
        parts = bytearray()
        try:
            self._task.settimeout(seconds)
            self._task.sendall(task)
            self._task.shutdown(socket.SHUT_WR)
            while len(parts) <= most:
                self._task.settimeout(max(0.01, deadline - time.monotonic()))
                got = self._task.recv(1 << 20)
                if not got:
                    break
                parts += got
        except (BrokenPipeError, ConnectionResetError):  # it ended before it had read the task
            pass
        return bytes(parts)

    def _begun(self) -> None:
        """Wait until it was forked, which the first one does for a while."""
        self._told.settimeout(_STARTS_S)
        said, descriptors, _, _ = socket.recv_fds(self._told, 16, 1)
        if not said:
            raise Gone("it ended before it forked")
        self._process = descriptors[0]

    def ended_with(self) -> int:
        """How it ended, below zero by a signal. Raises Gone where nobody is left who knows, TimeoutError."""
        self._told.settimeout(_ENDS_S)
        try:
            said = self._told.recv(16)
        except ConnectionResetError:
            said = b""
        if not said:
            raise Gone("it ended with its reader")
        return int.from_bytes(said, "little", signed=True)

    def end(self) -> None:
        """No such process, and nothing of it, is left."""
        if self._process is not None:
            with suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._process, signal.SIGKILL)
            ended = select.poll()
            ended.register(self._process, select.POLLIN)
            ended.poll(_ENDS_S * 1000)
            os.close(self._process)
            self._process = None
        self._task.close()
        self._told.close()
        shutil.rmtree(self.folder, ignore_errors=True)


class Source:
    """Where readers come from: one process to fork from, started when it is first wanted, and again when it is gone."""

    def __init__(self, suffix: str = "") -> None:
        self._suffix = suffix
        self._lock = threading.Lock()
        self._readers: Readers | None = None
        self._closed = False

    def start(self) -> Readers:
        """The process to fork from, living when it was looked at."""
        with self._lock:
            if self._closed:
                raise Gone("it was closed")
            if self._readers is None or not self._readers.living:
                self._end()
                self._readers = Readers(self._suffix)
            return self._readers

    def close(self) -> None:
        with self._lock:
            self._closed = True
            self._end()

    def _end(self) -> None:
        if self._readers is not None:
            self._readers.end()
            self._readers = None
