"""File formats: one module each, and this registry of them.

A reader takes a path, and the folder of a zip whose other files it may open, and gives a scene; a
writer takes an outgoing camera, a folder and a file stem and gives the files it wrote. Modules are
imported when first used: a format library takes longer to load than most files.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anaxis.core.bounds import require_rate
from anaxis.core.errors import BadInput

if TYPE_CHECKING:  # a reader waits for none of what writers need
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.outgoing import Outgoing
    from anaxis.core.scene.nodes import Scene
    from anaxis.core.space.axes import Convention

MAX_FILE_BYTES = 200 * 1000 * 1000


@dataclass(frozen=True)
class Format:
    """``read`` and ``write`` are "module:function" below anaxis.formats; ``cameras`` is False for a
    format that holds a set and never a camera; ``several`` is True for one that is written with nodes, and so
    with several cameras or a root above them."""

    key: str
    label: str
    suffixes: tuple[str, ...]
    read: str | None = None
    write: str | None = None
    cameras: bool = True
    several: bool = False


ZIP_SUFFIX = ".zip"
FORMATS: tuple[Format, ...] = (
    Format(
        "usd", "OpenUSD", (".usd", ".usda", ".usdc", ".usdz"), "usd.read:read_usd", "usd.write:write_usd", several=True
    ),
    Format("alembic", "Alembic", (".abc",), "alembic.read:read_alembic", "alembic.write:write_alembic", several=True),
    Format("gltf", "glTF 2.0", (".gltf", ".glb"), "gltf.read:read_gltf", "gltf.write:write_gltf", several=True),
    Format(
        "collada", "COLLADA 1.4", (".dae",), "collada.read:read_collada", "collada.write:write_collada", several=True
    ),
    Format(
        "json", "Track JSON", (".json",), "track_json.document:read_track_json", "track_json.document:write_track_json"
    ),
    Format(
        "columns", "Column text", (".csv", ".tsv", ".txt"), "tables.read:read_columns", "tables.write:write_columns"
    ),
    Format("obj", "OBJ", (".obj",), "obj.read:read_obj", cameras=False),
)

CAMERA_SUFFIXES = tuple(s for f in FORMATS if f.read and f.cameras for s in f.suffixes)
SET_SUFFIXES = tuple(s for f in FORMATS if f.read and f.key not in ("json", "columns") for s in f.suffixes)
READABLE_SUFFIXES = (*CAMERA_SUFFIXES, ZIP_SUFFIX)
# Nobody means the text files beside a layer when a zip is handed over.
_ZIPPED_SUFFIXES = tuple(s for f in FORMATS if f.read and f.cameras and f.key != "columns" for s in f.suffixes)


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


def is_table(name: str) -> bool:
    """Whether a file of this name is column text, which a column layout says how to read."""
    return any(Path(name).suffix.lower() in f.suffixes for f in FORMATS if f.key == "columns")


def require_readable(name: str, suffixes: tuple[str, ...] = READABLE_SUFFIXES) -> None:
    """Raise BadInput that lists what can be read for a name that ends in something else."""
    suffix = Path(name).suffix.lower()
    if suffix not in suffixes:
        raise BadInput(
            f"{name} ends in '{suffix or 'nothing'}', which is no file that can be read here: hand over one of "
            f"{', '.join(suffixes)}."
        )


def read_file(path: Path, max_bytes: int = MAX_FILE_BYTES, layout: dict[str, Any] | None = None) -> Scene:
    """Read a camera file, a set, or a zip; raises BadInput where that cannot be done.

    ``layout`` says what the columns of column text are (see :mod:`anaxis.formats.tables.layout`);
    without it they are told from their headings and behaviour.
    """
    is_zip = path.suffix.lower() == ZIP_SUFFIX
    if not is_zip:
        reader_of(path.name)
    if not path.is_file():
        raise BadInput(f"There is no file {path}: check the name.")
    check_size(path.name, path.stat().st_size, max_bytes)
    if is_zip:
        from anaxis.formats.zip_upload import UNPACKED_TIMES, read_zip

        return read_zip(path, _read_one, _ZIPPED_SUFFIXES, UNPACKED_TIMES * max_bytes)
    return _read_one(path, None, layout)


def _read_one(path: Path, within: Path | None, layout: dict[str, Any] | None = None) -> Scene:
    entry = reader_of(path.name)
    assert entry.read
    extra = {"layout": layout} if entry.key == "columns" else {}
    scene: Scene = _load(entry.read)(path, within, **extra)  # type: ignore[assignment]
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
    target = _writer_of(format_key)
    rates = list(dict.fromkeys(c.track.rate for c in cameras))
    if len(cameras) > 1 and not has_nodes(format_key):
        raise BadInput(f"'{format_key}' holds one camera a file: write one file each.")
    if len(rates) > 1:
        from anaxis.core.time.rates import rate_label

        said = " and ".join(f"{rate_label(r)}" for r in rates)
        raise BadInput(f"The cameras run at {said} frames a second, and a file has one rate: write one file each.")
    written = _load(target)(cameras, folder, stem)
    assert isinstance(written, list)
    return written


def key_rule_of(format_key: str, receiver: Convention) -> KeyRule:
    """How a reader of a format draws between keys: what its writer's module says. Raises BadInput."""
    rule: KeyRule = _load(_writer_of(format_key).split(":")[0] + ":key_rule")(receiver)  # type: ignore[assignment]
    return rule


def has_nodes(format_key: str) -> bool:
    """Whether a format is written with nodes: several cameras in a file, or a root above one."""
    return any(f.key == format_key and f.several for f in FORMATS)


def _writer_of(format_key: str) -> str:
    entry = next((f for f in FORMATS if f.key == format_key and f.write), None)
    if entry is None or entry.write is None:
        known = ", ".join(f.key for f in FORMATS if f.write)
        raise BadInput(f"'{format_key}' is not a format that is written: choose one of {known}.")
    return entry.write
