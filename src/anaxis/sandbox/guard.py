"""Reading files that cannot be trusted: each in a process of its own (:mod:`anaxis.sandbox.file_readers`), used once.

A crash, a hang or a flood of memory in a format library ends that process and becomes a sentence. The process gets no
environment of ours (so no database address) and may do little else than compute (:mod:`anaxis.sandbox.confine`).
"""

from __future__ import annotations

import os
import signal
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anaxis.core.errors import BadInput
from anaxis.formats import MAX_FILE_BYTES, READABLE_SUFFIXES, require_readable
from anaxis.monitoring.timing import timed
from anaxis.sandbox.folders import handed_in, with_layers
from anaxis.sandbox.forks import Fork, ForkEnded, ForkSource, Gone
from anaxis.sandbox.messages import BadMessage
from anaxis.sandbox.turns import Turns

if TYPE_CHECKING:  # the reading process is to start before all else
    from anaxis.core.scene.nodes import Scene

# A process gives up by itself; on a busy machine it takes a moment to say so.
_GRACE_S = 15
# So many files of a folder go along with one that refers to them.
_MOST_LAYERS = 5000


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


class ParserPool:
    """Reads files, a few at once. ``ready`` loads the readers at once, else when they are first wanted; a single command
    has them loaded for the name ``only_for`` alone."""

    def __init__(self, limits: Limits | None = None, ready: bool = True, only_for: str = "") -> None:
        self.limits = limits or Limits()
        suffix = Path(only_for).suffix
        self._source = ForkSource("file_readers", *([suffix] if suffix else []))
        self._turns = Turns(max(2, os.cpu_count() or 2))
        if ready:
            self._source.start()

    def close(self) -> None:
        """No process of it is left."""
        self._source.close()

    def read(
        self, path: Path, layout: dict[str, Any] | None = None, suffixes: tuple[str, ...] = READABLE_SUFFIXES, within: Path | None = None,
    ) -> Scene:  # fmt: skip
        """Read a file as :func:`anaxis.formats.read_file` does, but in a process of its own, which sees the layers of the folder
        ``within`` beside it.

        Raises BadInput, also where the reader crashed, hung or needed too much memory, and for a
        name that does not end in one of ``suffixes``.
        """
        # A wrong kind of file is refused before a process is spent on it.
        require_readable(path.name, suffixes)
        with self._turns.turn(), timed("file"):
            try:
                archive = self._source.asked(lambda reader: self._ask(reader, path, layout, within))
            except Gone as error:
                raise BadInput(
                    f"{path.name} was not read: its process ended twice (is this machine out of memory?). Try again."
                ) from error
        from anaxis.library.archive import scene_from_bytes

        return scene_from_bytes(archive)

    def _ask(self, reader: Fork, path: Path, layout: dict[str, Any] | None, within: Path | None) -> bytes:
        limits = self.limits
        inside = (
            handed_in(path, reader.folder) if within is None else with_layers(path, within, reader.folder, _MOST_LAYERS)
        )
        task = {
            "path": str(inside),
            "within": None if within is None else str(reader.folder / "in"),
            "max_bytes": limits.max_bytes,
            "memory_mb": limits.memory_mb,
            "wall_s": limits.wall_s,
            "answer_bytes": limits.answer_bytes,
            "layout": layout,
        }
        try:
            reader.send(task, limits.wall_s + _GRACE_S)
            answer, blocks = reader.receive(limits.wall_s + _GRACE_S, limits.answer_bytes)
        except TimeoutError as error:
            raise _too_slow(path, limits) from error
        except BadMessage as error:
            raise BadInput(f"{path.name} is too large: export only the camera.") from error
        except ForkEnded as error:
            if error.code in (-signal.SIGXCPU, -signal.SIGALRM):
                raise _too_slow(path, limits) from error
            raise BadInput(
                f"{path.name} made its reader stop (signal or limit {abs(error.code)}): it is damaged or too large. Export only the camera again."
                ""
            ) from error
        if "sentence" in answer:
            raise BadInput.from_dict(answer)
        return blocks[0] if blocks else b""  # which is no archive, and is said to be none


def _too_slow(path: Path, limits: Limits) -> BadInput:
    return BadInput(
        f"{path.name} took longer than {limits.wall_s} s to read and was stopped: export the camera without geometry, or raise the limit (ANAXIS_FILE_SECONDS)."
        ""
    )
