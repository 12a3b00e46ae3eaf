"""Unpacking archives that cannot be trusted: a zip of a layer with what it refers to.

Checked before a byte is written: names that lead out, links, how many files, how large unpacked.
"""

from __future__ import annotations

import stat
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.names import listed
from anaxis.core.scene.nodes import Scene

MAX_FILES = 2000
# What a zip may unpack to, in times of the largest file that is taken; a .usdz is stored, not packed.
UNPACKED_TIMES, STORED_TIMES = 5, 2
_COPY = 1 << 20
# Files that are cameras of their own for the most part; layers lie below, or are referred to.
_CAMERA_FILES = (".abc", ".dae", ".glb", ".gltf", ".usd", ".usda", ".usdc", ".usdz")


def unpack(path: Path, folder: Path, most_bytes: int, suffixes: tuple[str, ...] | None = None) -> list[Path]:
    """Unpack a zip of ``most_bytes`` at most into ``folder``; returns the files in the archive's order.

    With ``suffixes`` only files of those are written. Raises BadInput for a damaged archive and for
    one with an entry that leads out, is a link, or makes it too many or too large.
    """
    inside = folder.resolve()
    try:
        with zipfile.ZipFile(path) as archive:
            files = [i for i in archive.infolist() if not i.is_dir()]
            total = sum(i.file_size for i in files)
            if len(files) > MAX_FILES or total > most_bytes:
                raise BadInput(
                    f"{path.name} unpacks to {len(files)} files of {total >> 20} MB in all; at most {MAX_FILES} "
                    f"files and {most_bytes >> 20} MB are taken: pack the camera without its assets."
                )
            wanted = [i for i in files if suffixes is None or Path(i.filename).suffix.lower() in suffixes]
            targets = [_target(path.name, inside, i) for i in wanted]
            for item, target in zip(wanted, targets, strict=True):
                target.parent.mkdir(parents=True, exist_ok=True)
                _write(archive, item, target, path.name)
            return targets
    except BadInput:
        raise
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError, ValueError) as error:
        raise BadInput(
            f"{path.name} is not a readable {path.suffix.lower()} package: it is damaged, locked or not a package; "
            "pack it again."
        ) from error


def _target(name: str, inside: Path, item: zipfile.ZipInfo) -> Path:
    if stat.S_ISLNK(item.external_attr >> 16):
        raise BadInput(f"{name} holds the link '{item.filename}': pack the file it points to instead.")
    target = (inside / item.filename.replace("\\", "/")).resolve()
    if not target.is_relative_to(inside) or target == inside:
        raise BadInput(
            f"{name} holds the entry '{item.filename}', which leads out of the package: pack it again with "
            "relative names."
        )
    return target


def _write(archive: zipfile.ZipFile, item: zipfile.ZipInfo, target: Path, name: str) -> None:
    """Write one entry, never more of it than its header announced."""
    left = item.file_size
    with archive.open(item) as source, target.open("wb") as out:
        while piece := source.read(_COPY):
            left -= len(piece)
            if left < 0:
                raise BadInput(f"{name} holds '{item.filename}', which is larger than it says: pack it again.")
            out.write(piece)


def read_zip(path: Path, read: Callable[[Path, Path], Scene], suffixes: tuple[str, ...], most_bytes: int) -> Scene:
    """Read the one camera file of a zip, with the other files of the zip at its hand.

    ``read`` takes the file and the folder nothing may lead out of. Where several could be meant, the
    first that has a camera is taken, those nearest the top of the folder tree first.
    Raises BadInput where none can be read.
    """
    with TemporaryDirectory(prefix="anaxis-zip-") as name:
        folder = Path(name).resolve()
        files = [f for f in unpack(path, folder, most_bytes) if f.suffix.lower() in suffixes]
        if not files:
            raise BadInput(
                f"{path.name} holds no camera file: pack one of {', '.join(suffixes)} with what it refers to."
            )
        files.sort(key=lambda f: len(f.relative_to(folder).parts))
        first_error: BadInput | None = None
        without: Scene | None = None
        for file in files[:20]:
            try:
                scene = read(file, folder)
            except BadInput as error:
                first_error = first_error or error
                continue
            scene = replace(scene, name=f"{path.name}: {file.relative_to(folder)}")
            if scene.cameras:
                return _with_the_others(scene, path.name, [f for f in files if f != file], file, folder)
            without = without or scene
        if without is not None:
            return without
        assert first_error is not None
        raise BadInput(f"{path.name}: {first_error.sentence}")


def _with_the_others(scene: Scene, name: str, others: list[Path], taken: Path, folder: Path) -> Scene:
    """The scene, and a word about camera files of the zip that were not read beside it."""
    beside = [f for f in others if f.suffix.lower() in _CAMERA_FILES and f.parent == taken.parent]
    if not beside:
        return scene
    others_named = listed([str(f.relative_to(folder)) for f in beside], 5)
    found = Finding(
        "more_files",
        "warning",
        f"{name} holds {len(beside) + 1} files that may hold cameras and only {taken.relative_to(folder)} is read; not {others_named}.",
        "Take the others in one by one, if they are cameras and no layers of this one.",
        "Cameras that are not taken in are missing later.",
        {"files": len(beside) + 1},
    )
    return replace(scene, findings=(*scene.findings, found))
