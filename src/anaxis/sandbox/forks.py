"""Processes forked from one that has its libraries loaded, each with a folder of its own: for one task, or for several."""

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
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TypeVar

from anaxis.sandbox.confined import clean_environment, confined
from anaxis.sandbox.folders import made_for_a_reader
from anaxis.sandbox.messages import Document, Message, receive, send

# A process of one thread is whole when it is forked.
_ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1", "PXR_WORK_THREAD_LIMIT": "1", "OMP_NUM_THREADS": "1"}
# Until the process that is forked from has everything loaded, on a busy machine.
_STARTS_S = 60
_ENDS_S = 10
# A fork that went away with the process it was forked from says nothing about its file: another one may try.
TRIES, AGAIN_S = 2, 0.2
T = TypeVar("T")


class Gone(OSError):
    """The process that is forked from ended; what was asked of its fork may be asked of another."""


class ForkEnded(EOFError):
    """A fork ended before it had answered; ``code`` says how, below zero by a signal."""

    def __init__(self, code: int) -> None:
        super().__init__(f"it ended with {code}")
        self.code = code


class _ForkServer:
    """One process to fork from, started at once: ``module`` of this package with its ``args``."""

    def __init__(self, module: str, args: tuple[str, ...]) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="forks-"))
        self.folder.chmod(0o711)  # another user comes to the folders in it, and finds none that is not its own
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        own = made_for_a_reader(self.folder)
        self.process = subprocess.Popen(
            confined(module, self.folder, str(theirs.fileno()), *args),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=clean_environment(own) | _ONE_THREAD,
            pass_fds=[theirs.fileno()],
            start_new_session=True,
        )
        theirs.close()
        self._line = ours
        self.end = weakref.finalize(self, _ended, self.process, ours, self.folder)

    @property
    def living(self) -> bool:
        """Whether it can be asked; whoever clears old files out of the system's temporary folder takes its own."""
        return self.end.alive and self.process.poll() is None and self.folder.is_dir()

    def fork(self) -> Fork:
        """A process of its own for one task. Raises Gone."""
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
        return Fork(folder, task, told)


def _ended(process: subprocess.Popen[bytes], line: socket.socket, folder: Path) -> None:
    line.close()
    process.kill()
    process.wait()
    shutil.rmtree(folder, ignore_errors=True)


class Fork:
    """One forked process: the line to it, its folder, and how it ended."""

    def __init__(self, folder: Path, task: socket.socket, told: socket.socket) -> None:
        self.folder, self._line, self._told = folder, task, told
        self._process: int | None = None

    def send(self, task: Document, seconds: float, blocks: Sequence[bytes] = ()) -> None:
        """Give it its task, once it was forked. Raises Gone, TimeoutError, Ended where it ended before it took it."""
        self._begun()
        self._line.settimeout(seconds)
        try:
            send(self._line, task, blocks)
        except (BrokenPipeError, ConnectionResetError) as error:
            raise ForkEnded(self._ended_with()) from error

    def receive(self, seconds: float, most: int = 1 << 30) -> Message:
        """Its next answer. Raises Gone, TimeoutError, ForkEnded, BadMessage, also for more than ``most`` bytes."""
        try:
            return receive(self._line, most, time.monotonic() + seconds)
        except EOFError as error:
            raise ForkEnded(self._ended_with()) from error

    @property
    def living(self) -> bool:
        """Whether it can be given another task."""
        ended = select.poll()
        if self._process is not None:
            ended.register(self._process, select.POLLIN)
        return self._process is not None and not ended.poll(0)

    def _begun(self) -> None:
        """Wait until it was forked, which the first one does for a while."""
        if self._process is not None:
            return
        self._told.settimeout(_STARTS_S)
        said, descriptors, _, _ = socket.recv_fds(self._told, 16, 1)
        if not said:
            raise Gone("it ended before it forked")
        self._process = descriptors[0]

    def _ended_with(self) -> int:
        """How it ended. Raises Gone where nobody is left who knows, TimeoutError."""
        self._told.settimeout(_ENDS_S)
        try:
            said = self._told.recv(16)
        except ConnectionResetError:
            said = b""
        if not said:
            raise Gone("it ended with its fork")
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
        self._line.close()
        self._told.close()
        shutil.rmtree(self.folder, ignore_errors=True)


def again(ask: Callable[[], T]) -> T:
    """What ``ask`` gives, asked once more where a fork was gone. Raises Gone where the second was gone too."""
    for left in reversed(range(TRIES)):
        try:
            return ask()
        except Gone:
            if not left:
                raise
        time.sleep(AGAIN_S)  # until the one that was killed is seen to be dead
    raise AssertionError


class ForkSource:
    """Where forks come from: one process to fork from, started when it is first wanted, and again when it is gone."""

    def __init__(self, module: str, *args: str) -> None:
        self._module, self._args = module, args
        self._lock = threading.Lock()
        self._server: _ForkServer | None = None
        self._closed = False

    def start(self) -> _ForkServer:
        """The process to fork from, living when it was looked at. Raises Gone where this was closed."""
        with self._lock:
            if self._closed:
                raise Gone("it was closed")
            if self._server is None or not self._server.living:
                self._end()
                self._server = _ForkServer(self._module, self._args)
            return self._server

    @contextmanager
    def fork(self) -> Iterator[Fork]:
        """A process, ended at the end. Raises Gone."""
        fork = self.start().fork()
        try:
            yield fork
        finally:
            fork.end()

    def asked(self, ask: Callable[[Fork], T]) -> T:
        """What ``ask`` has of a fork; of a second one where the first was gone. Raises Gone where that was gone too."""

        def once() -> T:
            with self.fork() as fork:
                return ask(fork)

        return again(once)

    def close(self) -> None:
        with self._lock:
            self._closed = True
            self._end()

    def _end(self) -> None:
        if self._server is not None:
            self._server.end()
            self._server = None
