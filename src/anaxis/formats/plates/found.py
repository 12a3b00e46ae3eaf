"""Which image sequences lie in a folder: by the numbers in the files' names, with fileseq."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import fileseq

from anaxis.core.bounds import MAX_FRAME, MAX_FRAMES
from anaxis.core.errors import BadInput
from anaxis.formats.plates import MOVIE_SUFFIXES, PICTURE_SUFFIXES, SUFFIXES


@dataclass(frozen=True)
class Found:
    """A sequence, or one movie or still: its files by frame number, and the numbers that two files have."""

    name: str
    files: dict[int, str]
    doubled: tuple[int, ...] = ()

    @property
    def is_movie(self) -> bool:
        return Path(next(iter(self.files.values()))).suffix.lower() in MOVIE_SUFFIXES

    @property
    def missing(self) -> list[int]:
        """The numbers between first and last that no file has."""
        low, high = min(self.files), max(self.files)
        return sorted(set(range(low, high + 1)) - self.files.keys()) if not self.is_movie else []


def sequences_among(names: Iterable[str]) -> list[Found]:
    """The sequences among file names, in order of their names; files that are no pictures are left out.

    The same number written with two paddings is doubled; the one with the padding that more files have counts.
    Raises BadInput for more frames than a camera can have.
    """
    known = sorted(n for n in names if Path(n).suffix.lower() in SUFFIXES)
    movies = [n for n in known if Path(n).suffix.lower() in MOVIE_SUFFIXES]
    found = [Found(n, {0: n}) for n in movies]
    grouped: dict[tuple[str, str], list[fileseq.FileSequence]] = {}
    for sequence in fileseq.findSequencesInList([n for n in known if Path(n).suffix.lower() in PICTURE_SUFFIXES]):
        grouped.setdefault((sequence.dirname() + sequence.basename(), sequence.extension().lower()), []).append(
            sequence
        )
    for (base, suffix), several in sorted(grouped.items()):
        several.sort(key=len)
        files: dict[int, str] = {}
        doubled: set[int] = set()
        for sequence in several:
            numbers = sequence.frameSet()
            frames = [int(f) for f in numbers] if numbers else [0]
            if max(map(abs, frames)) > MAX_FRAME or len(frames) > MAX_FRAMES:
                raise BadInput(
                    f"{base}*{suffix} has {len(frames)} frames up to {max(frames)}: no camera has such frames."
                )
            doubled |= files.keys() & set(frames)
            files |= {f: sequence.frame(f) if numbers else str(sequence) for f in frames}
        numbered = len(files) > 1 or any(s.frameSet() for s in several)
        digits = "#" * max(1, several[-1].zfill()) if numbered else ""
        found.append(Found(f"{base}{digits}{suffix}", dict(sorted(files.items())), tuple(sorted(doubled))))
    return found


def sequence_at(place: Path) -> Found:
    """The one sequence at a path: a folder that holds one, one of its files, or a pattern (bg.####.exr, bg.%04d.exr).

    File names come with their folder. Raises BadInput where there is none, or several and nothing says which.
    """
    folder = place if place.is_dir() else place.parent
    if not folder.is_dir():
        raise BadInput(f"There is no folder {folder}: check the name.")
    found = sequences_among(entry.name for entry in folder.iterdir() if entry.is_file())
    if place.is_dir():
        if not found:
            raise BadInput(f"{place} has no readable images: {', '.join(SUFFIXES)}.")
        if len(found) > 1:
            listed = ", ".join(f.name for f in found[:6])
            raise BadInput(f"{place} holds {len(found)} sequences ({listed}): name one of them.")
        return _in(found[0], folder)
    wanted = _plain(place.name)
    for one in found:
        if place.name in one.files.values() or wanted == _plain(one.name):
            return _in(one, folder)
    raise BadInput(f"There is no image sequence {place}: write it as name.####.exr, or name one of its files.")


def _plain(pattern: str) -> str:
    """A pattern without how many digits it has: ####, @@@@, %04d and $F4 mean the same."""
    try:
        sequence = fileseq.FileSequence(pattern)
    except fileseq.FileSeqException:
        return pattern
    return f"{sequence.basename()}*{sequence.extension().lower()}" if sequence.padding() else pattern


def _in(found: Found, folder: Path) -> Found:
    return Found(found.name, {f: str(folder / n) for f, n in found.files.items()}, found.doubled)
