"""A plate's pictures, or a render's, put through the maps of their frames."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, BinaryIO, NamedTuple, Protocol

from anaxis.core.camera.lens import Image
from anaxis.core.checks.plates import lacking, ranges
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.typing import Floats
from anaxis.formats.plates.warp import USUAL_FILTER
from anaxis.formats.st_map.write import write_st_map
from anaxis.sandbox.plates import plate_work


class Maps(Protocol):
    """The maps of a camera's frames, by kind."""

    @property
    def moves(self) -> bool:
        """Whether frames have different maps."""
        ...

    def map(self, kind: str, at: int, /) -> Floats:
        """The map (h, w, 2) of the frame at a place."""
        ...

    def fetched(self, kind: str, /) -> Image:
        """The picture that a map fetches in."""
        ...

    def written(self, kind: str, /) -> Image:
        """The picture that a map makes."""
        ...

    def goes_round(self, kind: str, /) -> bool:
        """Whether the picture that is fetched in goes on at its other side, as an equirectangular one does."""
        ...

    def leaves_empty(self, kind: str, /) -> bool:
        """Whether pixels that fetch nothing are from black, by alpha."""
        ...


@dataclass(frozen=True)
class NumberedPictures:
    """Pictures by number, what is added to a number to give the camera's frame, and how a file is opened (by its path)."""

    name: str
    files: Mapping[int, Path]
    offset: int = 0
    opened: Callable[[Path], BinaryIO] | None = None


class WarpedPictures(NamedTuple):
    """The files that were written (those that failed are in ``errors``), by how many steps of their depth one reads back
    otherwise at most, the camera's frames without a picture, and how many pictures have no frame."""

    files: list[str]
    errors: list[str]
    steps_off: float
    size: Image
    missing: list[int]
    left_out: int

    def notes(self, name: str) -> list[str]:
        """Sentences about what was not written: pictures that failed, and frames that ``name`` has no picture for."""
        failed = [f"Not written: {listed(self.errors, 3, '; ')}."] if self.errors else []
        frames = len(self.files) + len(self.errors) + len(self.missing)
        return failed + ([f"{lacking(name, self.missing, frames)}."] if self.missing else [])


# Maps that lie on disk at once, where each frame has its own.
_MAPS_AT_ONCE = 12


def warp_pictures(
    kind: str, maps: Maps, frames: Sequence[float], pictures: NumberedPictures, out: Path, name_of: Callable[[int], str], *,
    filter_name: str = USUAL_FILTER, force: bool = False, each: Callable[[Path | None, float], None] = lambda path, share: None,
) -> WarpedPictures:  # fmt: skip
    """Put the pictures on a camera's ``frames`` through its maps, and write them to ``out``, each read back and measured.

    ``name_of`` gives the file's name for a picture's number; ``each`` is called after each picture with its file (None where
    it failed) and the share of pictures done. Raises BadInput where no picture is on a frame, where a file already exists and
    ``force`` is not set, where every picture failed, and where the distortion folds over.
    """
    place = {round(f): i for i, f in enumerate(frames)}
    places = {n: place[n + pictures.offset] for n in pictures.files if n + pictures.offset in place}
    if not places:
        raise BadInput(
            f"'{pictures.name}' has pictures {ranges(list(pictures.files))} and the camera has frames {min(place)} to {max(place)}, no common frames: set the offset of the images to"
            f" {min(place) - min(pictures.files)}, or renumber the files."
        )
    names = {n: name_of(n) for n in places}
    there = next((name for name in names.values() if (out / name).exists()), None)
    if there and not force:
        raise BadInput(f"{out / there} already exists: choose another folder, or write over it with --force.")
    files, errors, steps = [], [], 0.0
    with TemporaryDirectory(prefix="anaxis-maps-") as folder:
        for count, done in enumerate(
            _through_maps(kind, maps, places, pictures, filter_name, names, Path(folder), out), 1
        ):
            path = None
            if "error" in done:
                errors.append(f"frame {done['frame']}: {done['error']}")
            else:
                path = Path(done["path"])
                files.append(path.name)
                steps = max(steps, done["steps_off"])
            each(path, count / len(places))
    if not files:
        raise BadInput(errors[0])
    missing = [f for f in place if f - pictures.offset not in places]
    return WarpedPictures(sorted(files), errors, steps, maps.written(kind), missing, len(pictures.files) - len(places))


def _through_maps(
    kind: str, maps: Maps, places: Mapping[int, int], pictures: NumberedPictures, filter_name: str, names: Mapping[int, str], folder: Path,
    out: Path,
) -> Iterator[dict[str, Any]]:  # fmt: skip
    """What :func:`plate_work` says of each picture. Where the maps move, that of each frame is made in ``folder`` when it is
    needed; else there is one."""
    wanted = maps.fetched(kind)
    task = {
        "do": "warp", "size": [wanted.width_px, wanted.height_px], "filter": filter_name, "names": {str(n): v for n, v in names.items()},
        "round_seam": maps.goes_round(kind), "with_alpha": maps.leaves_empty(kind),
    }  # fmt: skip
    if not maps.moves:
        path = folder / "map.exr"
        write_st_map(maps.map(kind, 0), path)
        yield from plate_work(task, {n: pictures.files[n] for n in places}, {0: path}, out, pictures.opened)
        return
    ordered = list(places.items())
    for some in (ordered[i : i + _MAPS_AT_ONCE] for i in range(0, len(ordered), _MAPS_AT_ONCE)):
        made = {number: folder / f"map.{number}.exr" for number, _ in some}
        for number, at in some:
            write_st_map(maps.map(kind, at), made[number])
        yield from plate_work(task, {n: pictures.files[n] for n in made}, made, out, pictures.opened)
        for path in made.values():
            path.unlink()
