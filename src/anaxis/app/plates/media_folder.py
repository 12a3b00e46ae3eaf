"""Camera files in a folder below a media root: which there are, each opened, and those that come while somebody watches."""

from __future__ import annotations

import os
from collections.abc import AsyncIterator
from pathlib import Path, PurePosixPath
from typing import BinaryIO, NamedTuple

from watchfiles import awatch

from anaxis.core.errors import BadInput
from anaxis.formats import READABLE_SUFFIXES
from anaxis.store.media_folders import files_below, listed, opened, root_of

_MOST_FILES = 5000
# A file is whole when its size and time have stood still for one look.
_LOOK_EVERY_MS = 1000


class Folder(NamedTuple):
    """A folder below a media root: the folders in it, and the camera files in and below it, as paths from there."""

    root: str
    folder: str
    folders: list[str]
    files: list[str]


def folder_of(root: str, folder: str) -> Folder:
    """Raises BadInput for a folder that is not there or leads out, and for one of too many files."""
    folder = folder.strip().strip("/")
    return Folder(root, folder, listed(root, folder).folders, files_below(root, folder, READABLE_SUFFIXES, _MOST_FILES))


def open_file(root: str, folder: str, path: str) -> BinaryIO:
    """One of the files, by its path from the folder. Raises BadInput."""
    whole = PurePosixPath(folder.strip("/"), path)
    return opened(root, str(whole.parent) if whole.parent.name else "", whole.name)


class Arrived(NamedTuple):
    """A file that is there, and whole: its path from the folder, and a word that is another when its content is."""

    path: str
    mark: str


async def arriving(folder: Path, suffixes: tuple[str, ...]) -> AsyncIterator[list[Arrived]]:
    """The files of a folder, and those that come into it or change in it, each once it is whole; an empty list where nothing
    came for a while."""
    told: dict[str, str] = {}
    seen: dict[str, str] = {}
    unsettled = True
    looks = awatch(
        folder, yield_on_timeout=True, rust_timeout=_LOOK_EVERY_MS, debounce=_LOOK_EVERY_MS
    )  # fmt: skip
    async for changes in looks:
        if not (changes or unsettled):
            yield []
            continue
        before, seen = seen, _marks(folder, suffixes)
        whole = {f: mark for f, mark in seen.items() if told.get(f) != mark == before.get(f)}
        told |= whole
        unsettled = any(told.get(f) != mark for f, mark in seen.items())
        yield [Arrived(*one) for one in whole.items()]


def _marks(folder: Path, suffixes: tuple[str, ...]) -> dict[str, str]:
    """Size and time, as one word, of every file, by its path; links are no files."""
    out = {}
    for where, folders, files, at in os.fwalk(folder, follow_symlinks=False):
        folders[:] = [f for f in folders if not f.startswith(".")]
        for name in files:
            if name.startswith(".") or not name.lower().endswith(suffixes):
                continue
            try:
                said = os.stat(name, dir_fd=at, follow_symlinks=False)
            except FileNotFoundError:  # it went meanwhile
                continue
            out[(Path(where) / name).relative_to(folder).as_posix()] = f"{said.st_size}-{said.st_mtime_ns}"
    return out


def watched(root: str, folder: str) -> Path:
    """Where a folder below a root is, to be watched. Raises BadInput for one that is not there or leads out."""
    listed(root, folder.strip("/"))
    where = root_of(root) / folder.strip("/")
    if not where.resolve().is_relative_to(root_of(root).resolve()):
        raise BadInput(f"There is no folder '{folder[:200]}' below that media root, or a link leads to it.")
    return where
