"""What is known of a file format: its names, what it holds, and who reads and writes it.

Each format's folder has one :class:`Format` as its ``FORMAT``, beside its reader and writer. These are loaded when they are
first asked for, since a format library takes longer to load than most files to read.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NamedTuple

if TYPE_CHECKING:  # a reader waits for none of what writers need
    from anaxis.core.motion.keys import KeyRule
    from anaxis.core.outgoing import Outgoing
    from anaxis.core.scene.nodes import Scene
    from anaxis.core.space.axes import Convention
    from anaxis.formats.set_piece import SetWriter

# Takes a path, and the folder of a zip whose other files it may open; one that ``has_layouts`` a column layout too.
Reader = Callable[..., "Scene"]

# The clip planes that stand for those that are not stated, in formats that cannot leave them out.
NEAR_WRITTEN_M, FAR_WRITTEN_M = 0.01, 10_000.0


class Writer(NamedTuple):
    """``write`` takes outgoing cameras, a folder and a file stem, and gives the files it wrote; ``key_rule`` says how whoever
    opens a file for a receiver draws between its keys."""

    write: Callable[[Sequence[Outgoing], Path, str], list[Path]]
    key_rule: Callable[[Convention], KeyRule]


@dataclass(frozen=True)
class Format:
    """A file format; a format's own class says with ``reader`` and ``writer`` who does it.

    ``key`` is its name in the store, ``label`` that on pages, ``names`` those on the command line. ``written`` is False for
    what is read alone, ``cameras`` for what holds a set and never a camera, ``sets`` for what never holds a set. ``several``:
    written with nodes, so with several cameras or a root above them. ``film_back``: holds a film back and its offset.
    ``in_seconds``: counts seconds from 0 on, and no frames. ``single_precision``: of all its numbers. ``clips_m``: the clip planes
    (near, far) that stand in a file where a camera states none, None for one that is left out. ``has_layouts``: text that a
    column layout says how to read. ``calibrates``: its files can carry what a package is calibrated by. ``set_suffix``: of its
    files of a set, "" where none is written; ``set_holds``: objects that stand still, that move too, or that deform as well.
    """

    key: str
    label: str
    names: tuple[str, ...]
    suffixes: tuple[str, ...]
    written: bool = True
    cameras: bool = True
    sets: bool = True
    several: bool = False
    film_back: bool = True
    in_seconds: bool = False
    single_precision: bool = False
    clips_m: tuple[float | None, float | None] = (None, None)
    has_layouts: bool = False
    calibrates: bool = False
    set_suffix: str = ""
    set_holds: Literal["still", "moving", "deforming"] = "still"

    @property
    def unversioned(self) -> str:
        """Its label in a sentence, where its version does not matter."""
        return self.label.rstrip("0123456789. ")

    def reader(self) -> Reader:
        """Who reads it, loaded."""
        raise NotImplementedError(f"{self.key} has no reader")

    def writer(self) -> Writer:
        """Who writes it, loaded; not where ``written`` is False."""
        raise NotImplementedError(f"{self.key} has no writer")

    def set_writer(self) -> SetWriter:
        """Who writes a set in it, loaded; not where ``set_suffix`` is ""."""
        raise NotImplementedError(f"{self.key} has no writer of sets")
