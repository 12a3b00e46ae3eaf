"""Reading files that cannot be trusted: each in a process of its own, from a warm pool.

A crash, a hang or a flood of memory in a format library ends that process and becomes a sentence.
The process gets no environment of ours (so no database address), may do little else than compute
(:mod:`anaxis.work.sandbox.confine`) and is used once.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import threading
from collections import deque
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anaxis.core.errors import BadInput
from anaxis.formats import MAX_FILE_BYTES, READABLE_SUFFIXES, require_readable
from anaxis.work.sandbox.confined import confined
from anaxis.work.sandbox.folders import handed_in, made_for_a_reader
from anaxis.work.sandbox.turns import Turns

if TYPE_CHECKING:  # the reading process is to start before all else
    from anaxis.core.scene.nodes import Scene

_KEPT_ENVIRONMENT = ("PATH", "LANG", "LC_ALL", "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")
# A process that was not kept ready takes a moment before it reads, more on a busy machine.
_STARTS_S = 15


@dataclass(frozen=True)
class Limits:
    """The budget of one file: its size, and the memory and seconds that reading and looking through it may take."""

    max_bytes: int = MAX_FILE_BYTES
    memory_mb: int = 1000
    wall_s: int = 30
    answer_bytes: int = 1 << 30


def limits_from_environment() -> Limits:
    """The limits in force: ANAXIS_MAX_FILE_MB (200), ANAXIS_FILE_MB of memory (1000) and ANAXIS_FILE_SECONDS (30)."""
    found = {}
    for name, usual, unit in (
        ("ANAXIS_MAX_FILE_MB", 200.0, "megabytes"),
        ("ANAXIS_FILE_MB", 1000.0, "megabytes"),
        ("ANAXIS_FILE_SECONDS", 30.0, "seconds"),
    ):
        text = os.environ.get(name, str(usual))
        try:
            found[name] = float(text)
            if not 0 < found[name] < 1e7:
                raise ValueError
        except ValueError as error:
            raise BadInput(f"{name} is '{text}': it must be a number of {unit} above zero.") from error
    return Limits(
        int(found["ANAXIS_MAX_FILE_MB"] * 1e6),
        int(found["ANAXIS_FILE_MB"]),
        max(1, round(found["ANAXIS_FILE_SECONDS"])),
    )


def clean_environment(folder: Path) -> dict[str, str]:
    """The environment of a process that works on what came in: nothing of ours, and its own folder to put things aside."""
    return {k: os.environ[k] for k in _KEPT_ENVIRONMENT if k in os.environ} | {"TMPDIR": str(folder)}


class ParserPool:
    """Keeps ``warm`` parsing processes ready.

    With ``warm=0`` one is started only when asked; with ``warm=1`` one is made ready and not
    replaced, which is what a single command wants: it then loads only what a file of the name
    ``only_for`` needs.
    """

    def __init__(self, warm: int = 2, limits: Limits | None = None, only_for: str = "") -> None:
        self.limits = limits or Limits()
        self._only_for = only_for
        self._warm = warm
        self._turns = Turns(max(2, os.cpu_count() or 2))
        self._ready: deque[_Reader] = deque()
        self._lock = threading.Lock()
        self._closed = False
        self._refill()

    def _refill(self) -> None:
        with self._lock:
            while len(self._ready) < self._warm and not self._closed:
                self._ready.append(_Reader(self._only_for))

    def close(self) -> None:
        with self._lock:
            self._closed = True
            while self._ready:
                self._ready.popleft().end()

    def read(
        self, path: Path, layout: dict[str, Any] | None = None, suffixes: tuple[str, ...] = READABLE_SUFFIXES
    ) -> Scene:
        """Read a file as :func:`anaxis.formats.read_file` does, but in a process of its own.

        Raises BadInput, also where the reader crashed, hung or needed too much memory, and for a
        name that does not end in one of ``suffixes``.
        """
        # A wrong kind of file is refused before a process is spent on it.
        require_readable(path.name, suffixes)
        with self._turns.turn():
            with self._lock:
                reader = self._ready.popleft() if self._ready else None
            if reader is None or reader.process.poll() is not None:
                if reader is not None:
                    reader.end()
                reader = _Reader(self._only_for or path.name)
            try:
                return self._ask(reader, path, layout)
            finally:
                reader.end()
                if self._warm > 1:
                    threading.Thread(target=self._refill, daemon=True).start()

    def _ask(self, reader: _Reader, path: Path, layout: dict[str, Any] | None) -> Scene:
        limits, process = self.limits, reader.process
        task = {
            "path": str(handed_in(path, reader.folder)),
            "max_bytes": limits.max_bytes,
            "memory_mb": limits.memory_mb,
            "wall_s": limits.wall_s,
            "answer_bytes": limits.answer_bytes,
            "layout": layout,
        }
        try:
            answer, _ = process.communicate(json.dumps(task).encode() + b"\n", timeout=limits.wall_s + _STARTS_S)
        except subprocess.TimeoutExpired as error:
            raise BadInput(
                f"{path.name} took longer than {limits.wall_s} s to read and was given up: export the camera "
                "without its geometry, or raise the limit (ANAXIS_FILE_SECONDS)."
            ) from error
        if not answer:
            raise BadInput(
                f"{path.name} took longer than {limits.wall_s} s to read and was given up: export the camera without its geometry, or "
                "raise the limit (ANAXIS_FILE_SECONDS)."
                if process.returncode in (-signal.SIGXCPU, -signal.SIGALRM)
                else f"{path.name} made its reader stop (signal or limit {-process.returncode}): it is damaged or far "
                "too large; export it again with the camera alone."
            )
        if len(answer) > limits.answer_bytes:
            raise BadInput(f"{path.name} holds more than can be taken in: export the camera alone.")
        if answer[:1] == b"E":
            raise BadInput.from_dict(json.loads(answer[1:]))
        from anaxis.store.archive import scene_from_bytes

        return scene_from_bytes(answer[1:])


class _Reader:
    """A reading process with its folder: the file is put there, and the folder goes with the process."""

    def __init__(self, only_for: str) -> None:
        self.folder = made_for_a_reader()
        self.process = subprocess.Popen(
            confined("parser", self.folder, *([Path(only_for).suffix] if only_for else [])),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=clean_environment(self.folder),
            start_new_session=True,
        )

    def end(self) -> None:
        if self.process.poll() is None:
            self.process.kill()
        self.process.wait()
        for stream in (self.process.stdin, self.process.stdout):
            if stream:
                stream.close()
        shutil.rmtree(self.folder, ignore_errors=True)
