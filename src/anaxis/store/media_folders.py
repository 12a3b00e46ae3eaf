"""The media roots: the only folders that plates are read from, and the one that plates handed in are put into.

ANAXIS_MEDIA_ROOTS lists folders, with colons between them, each with a name if wanted (plates=/mnt/plates:/mnt/scans).
ANAXIS_PLATES is the folder for what is handed in; it is a media root of its own. A path below a root is walked step by step
from the root's own handle and no link is followed, so nothing outside is ever opened, whatever is put there meanwhile.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO, NamedTuple

from anaxis.core.errors import BadInput

HANDED_IN = "handed in"
_DIRECTORY = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
_MOST_ENTRIES = 200_000


class Listed(NamedTuple):
    """What lies in a folder below a root: folders and files by name; links are neither."""

    folders: list[str]
    files: list[str]


def media_roots() -> dict[str, Path]:
    """The roots by name, from the environment. Raises BadInput for one that is not a folder."""
    out = {}
    for entry in filter(None, os.environ.get("ANAXIS_MEDIA_ROOTS", "").split(":")):
        name, _, path = entry.rpartition("=")
        folder = Path(path)
        if not folder.is_dir():
            raise BadInput(
                f"The media root {path} (ANAXIS_MEDIA_ROOTS) is not a folder on this machine: correct the setting."
            )
        out[name or folder.name] = folder
    own = os.environ.get("ANAXIS_PLATES")
    if own:
        Path(own).mkdir(parents=True, exist_ok=True)
        out[HANDED_IN] = Path(own)
    return out


def root_of(name: str) -> Path:
    """Raises BadInput for a root that is not there (any more)."""
    roots = media_roots()
    if name not in roots:
        known = ", ".join(roots) or "none is set (ANAXIS_MEDIA_ROOTS)"
        raise BadInput(f"There is no media root '{name[:60]}': choose one of {known}.")
    return roots[name]


def listed(root: str, folder: str) -> Listed:
    """What lies in a folder below a root. Raises BadInput for one that is not there or leads out."""
    at = _walked(root_of(root), folder)
    folders, files = [], []
    try:
        with os.scandir(at) as entries:
            for count, entry in enumerate(entries):
                if count >= _MOST_ENTRIES:
                    raise BadInput(
                        f"{folder or root} holds more than {_MOST_ENTRIES} entries: choose a folder below it."
                    )
                if entry.name.startswith("."):
                    continue
                mode = entry.stat(follow_symlinks=False).st_mode
                if stat.S_ISDIR(mode):
                    folders.append(entry.name)
                elif stat.S_ISREG(mode):
                    files.append(entry.name)
    finally:
        os.close(at)
    return Listed(sorted(folders), sorted(files))


def files_below(root: str, folder: str, suffixes: tuple[str, ...], most: int) -> list[str]:
    """Files of those endings in a folder below a root and in all folders below it, as paths from there, links left out.

    Raises BadInput for a folder that is not there or leads out, and for more than ``most`` files.
    """
    at = _walked(root_of(root), folder)
    found = []
    try:
        for where, folders, files, _ in os.fwalk(".", dir_fd=at, follow_symlinks=False):
            folders[:] = sorted(f for f in folders if not f.startswith("."))
            inside = where.removeprefix(".").removeprefix("/")
            names = [n for n in sorted(files) if not n.startswith(".") and n.lower().endswith(suffixes)]
            found += [f"{inside}/{n}" if inside else n for n in names]
            if len(found) > most:
                raise BadInput(f"{folder or root} holds more than {most} such files: choose a folder below it.")
    finally:
        os.close(at)
    return found


def opened(root: str, folder: str, name: str) -> BinaryIO:
    """A file below a root, open for reading. Raises BadInput where it is not there, or a link, or no file."""
    at = _walked(root_of(root), folder)
    try:
        _require_plain(name)
        file = os.open(name, _FILE, dir_fd=at)
    except OSError as error:
        raise BadInput(
            f"{name} in {folder or root} cannot be opened: it is missing, or a link; links are not followed."
        ) from error
    finally:
        os.close(at)
    if not stat.S_ISREG(os.fstat(file).st_mode):
        os.close(file)
        raise BadInput(f"{name} in {folder or root} is not a file.")
    return os.fdopen(file, "rb")


def _walked(root: Path, folder: str) -> int:
    at = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    for step in _steps(folder):
        try:
            further = os.open(step, _DIRECTORY, dir_fd=at)
        except OSError as error:
            raise BadInput(
                f"There is no folder '{folder[:200]}' below that media root, or a link leads to it."
            ) from error
        finally:
            os.close(at)
        at = further
    return at


def _steps(folder: str) -> Iterator[str]:
    for step in folder.split("/"):
        if step:
            _require_plain(step)
            yield step


def _require_plain(name: str) -> None:
    if name in ("", ".", "..") or "/" in name or "\0" in name:
        raise BadInput(f"'{name[:60]}' is not a name below a media root.")


def put_aside(folder: str, name: str, source: BinaryIO) -> None:
    """Keep a file that was handed in, below the folder for such. Raises BadInput where none is set."""
    root = os.environ.get("ANAXIS_PLATES")
    if not root:
        raise BadInput("Uploads of plates need a folder (ANAXIS_PLATES). Choose a plate below a media root.")
    _require_plain(folder)
    _require_plain(name)
    where = Path(root) / folder
    where.mkdir(mode=0o700, parents=True, exist_ok=True)
    if (where / name).exists():
        raise BadInput(f"{name} was uploaded twice: upload files of one folder.")
    partial = where / f".{name}.part"
    try:
        with open(partial, "wb", opener=_own) as out:
            while piece := source.read(1 << 20):
                out.write(piece)
        partial.rename(where / name)
    finally:
        with suppress(OSError):
            partial.unlink(missing_ok=True)


def _own(path: str, flags: int) -> int:
    """A file that nobody else on this machine may read."""
    return os.open(path, flags | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)


def take_away(folder: str) -> None:
    """What was handed in and is not kept after all."""
    root = os.environ.get("ANAXIS_PLATES")
    if root:
        _require_plain(folder)
        shutil.rmtree(Path(root) / folder, ignore_errors=True)
