"""File formats: one module each, and this registry of them.

A reader takes a path and gives a scene; a writer takes an outgoing camera, a folder and a file
stem and gives the files it wrote. Modules are imported when first used: a format library takes
longer to load than most files.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path

from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene import Scene

MAX_FILE_BYTES = 200 * 1000 * 1000


@dataclass(frozen=True)
class Format:
    """``read`` and ``write`` are "module:function" below anaxis.formats."""

    key: str
    label: str
    suffixes: tuple[str, ...]
    read: str | None = None
    write: str | None = None


FORMATS: tuple[Format, ...] = (
    Format("usd", "OpenUSD", (".usd", ".usda", ".usdc", ".usdz"), "usd_read:read_usd", "usd_write:write_usd"),
    Format("json", "Track JSON", (".json",), "track_json:read_track_json", "track_json:write_track_json"),
    Format("columns", "Column text", (".csv",), None, "columns:write_columns"),
)

READABLE_SUFFIXES = tuple(s for f in FORMATS if f.read for s in f.suffixes)


def _load(target: str) -> Callable[..., object]:
    module, name = target.split(":")
    function: Callable[..., object] = getattr(import_module(f"anaxis.formats.{module}"), name)
    return function


def reader_of(name: str) -> Format:
    """The format that reads a file of this name; raises BadInput that lists what can be read."""
    suffix = Path(name).suffix.lower()
    for entry in FORMATS:
        if entry.read and suffix in entry.suffixes:
            return entry
    raise BadInput(
        f"{name} ends in '{suffix or 'nothing'}', which is no camera file that can be read: "
        f"hand over one of {', '.join(READABLE_SUFFIXES)}."
    )


def read_file(path: Path, max_bytes: int = MAX_FILE_BYTES) -> Scene:
    """Read a camera file of any known format; raises BadInput where that cannot be done."""
    entry = reader_of(path.name)
    if not path.is_file():
        raise BadInput(f"There is no file {path}: check the name.")
    check_size(path.name, path.stat().st_size, max_bytes)
    assert entry.read
    scene = _load(entry.read)(path)
    assert isinstance(scene, Scene)
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


def write_files(format_key: str, outgoing: Outgoing, folder: Path, stem: str) -> list[Path]:
    """Write a camera in a format by its key; raises BadInput for a format that is not written."""
    entry = next((f for f in FORMATS if f.key == format_key and f.write), None)
    if entry is None or entry.write is None:
        known = ", ".join(f.key for f in FORMATS if f.write)
        raise BadInput(f"'{format_key}' is not a format that is written: choose one of {known}.")
    written = _load(entry.write)(outgoing, folder, stem)
    assert isinstance(written, list)
    return written
