"""Pictures put through the maps of their plate, some at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO, Protocol

from anaxis.core.camera.lens import Image
from anaxis.core.typing import Floats
from anaxis.formats.st_map.write import write_st_map
from anaxis.sandbox.plates import plate_work


class Maps(Protocol):
    """A pair of maps, by kind, of one frame or of each."""

    @property
    def moves(self) -> bool: ...

    def map(self, kind: str, at: int, /) -> Floats: ...

    def fetched(self, kind: str, /) -> Image: ...


# Maps that lie on disk at once, where each frame has its own.
_MAPS_AT_ONCE = 12


def through_maps(
    kind: str,
    maps: Maps,
    places: Mapping[int, int],
    files: Mapping[int, Path],
    filter_name: str,
    names: Mapping[int, str],
    folder: Path,
    out: Path,
    opened: Callable[[Path], BinaryIO] | None = None,
    round_seam: bool = False,
    with_alpha: bool = False,
) -> Iterator[dict[str, Any]]:
    """What :func:`plate_work` says of each picture, by its number: written to ``out`` under its name, read back and measured.

    ``places`` are the pictures' places among the camera's frames. Where the distortion moves, the map of each frame is made
    in ``folder`` when it is needed; else there is one. ``round_seam`` says that the pictures go round, as equirectangular
    ones do, and ``with_alpha`` that what lies outside of them is to be told from black. Raises BadInput where the distortion folds over.
    """
    wanted = maps.fetched(kind)
    task = {
        "do": "warp", "size": [wanted.width_px, wanted.height_px], "filter": filter_name, "names": {str(n): v for n, v in names.items()},
        "round_seam": round_seam, "with_alpha": with_alpha,
    }  # fmt: skip
    if not maps.moves:
        path = folder / "map.exr"
        write_st_map(maps.map(kind, 0), path)
        yield from plate_work(task, files, {0: path}, out, opened)
        return
    ordered = list(places.items())
    for some in (ordered[i : i + _MAPS_AT_ONCE] for i in range(0, len(ordered), _MAPS_AT_ONCE)):
        made = {number: folder / f"map.{number}.exr" for number, _ in some}
        for number, at in some:
            write_st_map(maps.map(kind, at), made[number])
        yield from plate_work(task, {n: files[n] for n in made}, made, out, opened)
        for path in made.values():
            path.unlink()
