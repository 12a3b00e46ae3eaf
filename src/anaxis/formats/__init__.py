"""File formats: a folder each with its :data:`FORMAT`, and this registry of them.

A reader takes a path, and the folder of a zip whose other files it may open, and gives a scene; a
writer takes outgoing cameras, a folder and a file stem and gives the files it wrote.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anaxis.core.bounds import require_rate
from anaxis.core.errors import BadInput
from anaxis.formats import alembic, collada, gltf, obj, tables, track_json, usd
from anaxis.formats.format import Format
from anaxis.formats.other_files import HEAD_BYTES, refuse_other_files

if TYPE_CHECKING:  # a reader waits for none of what writers need
    from anaxis.core.outgoing import Outgoing
    from anaxis.core.scene.nodes import Scene

MAX_FILE_BYTES = 200 * 1000 * 1000
ZIP_SUFFIX = ".zip"
FORMATS: tuple[Format, ...] = tuple(f.FORMAT for f in (usd, alembic, gltf, collada, track_json, tables, obj))
WRITTEN = tuple(f for f in FORMATS if f.written)
SET_WRITTEN = tuple(f for f in FORMATS if f.set_suffix)

CAMERA_SUFFIXES = tuple(s for f in FORMATS if f.cameras for s in f.suffixes)
SET_SUFFIXES = tuple(s for f in FORMATS if f.sets for s in f.suffixes)
READABLE_SUFFIXES = (*CAMERA_SUFFIXES, ZIP_SUFFIX)
# Nobody means the text files beside a layer when a zip is handed over.
_ZIPPED_SUFFIXES = tuple(s for f in FORMATS if f.cameras and not f.has_layouts for s in f.suffixes)


def format_of(key: str) -> Format:
    """The format that is written under a key; raises BadInput that lists them."""
    found = next((f for f in WRITTEN if f.key == key), None)
    if found is None:
        known = ", ".join(f.key for f in WRITTEN)
        raise BadInput(f"'{key[:40]}' is not a format that is written: choose one of {known}.")
    return found


def set_formats_of(text: str) -> tuple[Format, ...]:
    """The formats of a set's files by their keys or names, with commas; none for "none". Raises BadInput that lists them."""
    asked = [] if text.strip() == "none" else [t.strip().lower() for t in text.split(",") if t.strip()]
    known = {name: f for f in SET_WRITTEN for name in (f.key, *f.names)}
    for name in asked:
        if name not in known:
            raise BadInput(
                f"'{name[:40]}' is not a set format: choose from {', '.join(f.key for f in SET_WRITTEN)}, or none."
            )
    return tuple(dict.fromkeys(known[name] for name in asked))


def reader_of(name: str) -> Format:
    """The format that reads a file of this name; raises BadInput that lists what can be read."""
    suffix = Path(name).suffix.lower()
    for entry in FORMATS:
        if suffix in entry.suffixes:
            return entry
    refuse_other_files(name)
    raise BadInput(
        f"{name} ends in '{suffix or 'nothing'}', which is not a camera file Anaxis reads: use one of"
        f" {', '.join(READABLE_SUFFIXES)}."
    )


def is_table(name: str) -> bool:
    """Whether a file of this name is column text, which a column layout says how to read."""
    return any(Path(name).suffix.lower() in f.suffixes for f in FORMATS if f.has_layouts)


def require_readable(name: str, suffixes: tuple[str, ...] = READABLE_SUFFIXES) -> None:
    """Raise BadInput that lists what can be read for a name that ends in something else."""
    suffix = Path(name).suffix.lower()
    if suffix not in suffixes:
        refuse_other_files(name)
        raise BadInput(
            f"{name} ends in '{suffix or 'nothing'}', which is not a file Anaxis reads: use one of "
            f"{', '.join(suffixes)}."
        )


def read_file(
    path: Path, max_bytes: int = MAX_FILE_BYTES, layout: dict[str, Any] | None = None, within: Path | None = None
) -> Scene:
    """Read a camera file, a set, or a zip; raises BadInput where that cannot be done.

    ``layout`` says what the columns of column text are (see :mod:`anaxis.formats.tables.layout`);
    without it they are from their headings and behaviour. The file may refer to files of the folder ``within``, to none where
    None.
    """
    is_zip = path.suffix.lower() == ZIP_SUFFIX
    if not is_zip:
        reader_of(path.name)
    if not path.is_file():
        raise BadInput(f"There is no file {path}: check the name.")
    check_size(path.name, path.stat().st_size, max_bytes)
    with path.open("rb") as file:
        refuse_other_files(path.name, file.read(HEAD_BYTES))
    if is_zip:
        from anaxis.formats.zip_upload import UNPACKED_TIMES, read_zip

        return read_zip(path, _read_one, _ZIPPED_SUFFIXES, UNPACKED_TIMES * max_bytes)
    return _read_one(path, within, layout)


def _read_one(path: Path, within: Path | None, layout: dict[str, Any] | None = None) -> Scene:
    entry = reader_of(path.name)
    extra = {"layout": layout} if entry.has_layouts else {}
    scene = entry.reader()(path, within, **extra)
    require_rate(scene.rate, path.name)
    return scene


def check_size(name: str, size: int, max_bytes: int = MAX_FILE_BYTES) -> None:
    """Raise BadInput for an empty file or one over the limit."""
    if size == 0:
        raise BadInput(f"{name} is empty (0 bytes): the export or the copy did not finish; export it again.")
    if size > max_bytes:
        raise BadInput(
            f"{name} is {size / 1e6:.0f} MB and the limit is {max_bytes / 1e6:.0f} MB: export the camera "
            "without its geometry, or raise the limit (ANAXIS_MAX_FILE_MB)."
        )


def write_files(format_key: str, cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write cameras into one file of a format by its key.

    Raises BadInput for a format that is not written, or holds one camera and is handed several, and for
    cameras of different rates, which no file holds together.
    """
    entry = format_of(format_key)
    rates = list(dict.fromkeys(c.track.rate for c in cameras))
    if len(cameras) > 1 and not entry.several:
        raise BadInput(f"'{format_key}' stores one camera in each file: write one file for each camera.")
    if len(rates) > 1:
        from anaxis.core.time.rates import rate_label

        said = " and ".join(f"{rate_label(r)}" for r in rates)
        raise BadInput(f"The cameras run at {said} frames/s, but a file has one rate: write one file for each camera.")
    return entry.writer().write(cameras, folder, stem)
