"""What came along in a zip beside the camera: which of it is a plate, an ST map, a distortion, and what is done with it."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

from anaxis.app.cameras.distortion import fitted_to_maps, take_distortion
from anaxis.app.cameras.take_in import on_disk
from anaxis.app.context import Context
from anaxis.app.plates.plates import ask_for_proxies, hand_in_plate
from anaxis.core.camera.distortion.models import MODELS
from anaxis.core.errors import BadInput
from anaxis.formats import SET_SUFFIXES
from anaxis.formats.distortion.read import read_distortion
from anaxis.formats.plates import SUFFIXES
from anaxis.formats.plates.found import sequences_among
from anaxis.sandbox.pictures import safe_st_map
from anaxis.store.models import SourceFile, Version

PLATE, MAP, MAPS, DISTORTION, SET, OTHER = (
    "plate", "ST map", "ST maps, a sequence", "distortion", "scene or set geometry", "something else",
)  # fmt: skip
# What is taken where it is ticked; the rest stays in the file as it came.
TAKEN = (PLATE, MAP, DISTORTION)
# How the names of undistorted plates say so.
_UNDISTORTED = re.compile(r"(?i)(?:^|[./_-])((?:un|no)_?dist(?:ort|orted)?|undis|ud|straight(?:ened)?)(?=[./_#-]|$)")
_MOST_JSON = 5_000_000
_MOST_PIECES = 60


@dataclass(frozen=True)
class ZipPiece:
    """One thing in the zip: its files, what it is and why it is taken for that, and what happens to it; ``plate_kind`` is what
    a plate is taken for, "" for what is none."""

    name: str
    kind: str
    files: tuple[str, ...]
    why: str
    then: str
    plate_kind: str = ""

    @property
    def taken(self) -> bool:
        return self.kind in TAKEN


def pieces_of(source: SourceFile, camera_file: str) -> list[ZipPiece]:
    """What a zip holds beside its camera's file; nothing for a file that is not a zip."""
    if Path(source.name).suffix.lower() != ".zip":
        return []
    try:
        with zipfile.ZipFile(io.BytesIO(source.data)) as archive:
            return list(_pieces(archive, camera_file))[:_MOST_PIECES]
    except (zipfile.BadZipFile, OSError) as error:
        raise BadInput(f"{source.name} cannot be opened any more: take it in again.") from error


def _pieces(archive: zipfile.ZipFile, camera_file: str) -> Iterator[ZipPiece]:
    names = [i.filename for i in archive.infolist() if not i.is_dir() and i.filename != camera_file]
    folders: dict[str, list[str]] = {}
    for name in names:
        folders.setdefault(str(PurePosixPath(name).parent), []).append(name)
    for folder, inside in sorted(folders.items()):
        by_name = {PurePosixPath(n).name: n for n in inside}
        for found in sequences_among(by_name):
            files = tuple(by_name[n] for n in found.files.values())
            yield _picture(archive, f"{folder}/{found.name}".removeprefix("./"), files, found.is_movie)
        for name in inside:
            if Path(name).suffix.lower() not in SUFFIXES:
                yield _other(archive, name)


def _picture(archive: zipfile.ZipFile, name: str, files: tuple[str, ...], movie: bool) -> ZipPiece:
    """A sequence or a single picture: an ST map where its colours are places, else a plate."""
    count = f"{len(files)} picture{'s' if len(files) != 1 else ''}"
    if not movie and Path(files[0]).suffix.lower() == ".exr":
        try:
            first = (PurePosixPath(files[0]).name, archive.read(files[0]))
            (read,) = (safe_st_map(path) for path in on_disk([first]))
        except BadInput:
            read = None
        if read is not None:
            why = f"red and green are positions in a picture; direction {read['direction'] or 'undistort'}: {read['guesses']['direction']}"
            if len(files) > 1:
                return ZipPiece(name, MAPS, files, why, "stays in the zip: use one map on Lens")
            return ZipPiece(name, MAP, files, why, "a distortion is fitted to it")
    if len(files) == 1 and not movie:
        return ZipPiece(name, OTHER, files, "a single image, not a sequence", "stays in the zip")
    why = "a movie" if movie else f"{count}, without places"
    straight = _UNDISTORTED.search(name)
    if straight:
        why += f"; '{straight[1]}' in its name: undistorted"
    return ZipPiece(name, PLATE, files, why, "becomes a plate of the shot", "undistorted" if straight else "as shot")


def _other(archive: zipfile.ZipFile, name: str) -> ZipPiece:
    suffix = Path(name).suffix.lower()
    if suffix == ".json" and archive.getinfo(name).file_size <= _MOST_JSON:
        try:
            document = read_distortion(archive.read(name), PurePosixPath(name).name)
        except BadInput:
            return ZipPiece(name, OTHER, (name,), "neither distortion nor track", "stays in the zip")
        return ZipPiece(
            name,
            DISTORTION,
            (name,),
            f"a document of the model {document['model']}",
            "becomes the distortion of the saved cameras",
        )
    if suffix in SET_SUFFIXES:
        return ZipPiece(name, SET, (name,), f"a {suffix} beside the camera's file", "stays in the zip with the camera")
    return ZipPiece(name, OTHER, (name,), f"a {suffix or 'file without an ending'}", "stays in the zip")


def take_along(
    context: Context,
    source: SourceFile,
    camera_file: str,
    versions: Sequence[Version],
    ticked: Sequence[str],
    plate_kinds: Sequence[str] = (),
) -> bool:
    """What was ticked goes to the cameras kept and their shot; whether a worker has something to do for it.

    ``plate_kinds`` say what kind a plate is, where that is another than it was taken for, as ``name=kind``. Raises BadInput,
    and then nothing is kept.
    """
    wanted = [p for p in pieces_of(source, camera_file) if p.name in ticked and p.taken]
    if not (wanted and versions):
        return False
    with zipfile.ZipFile(io.BytesIO(source.data)) as archive:
        newest = list(versions)
        documents = [p for p in wanted if p.kind == DISTORTION]
        maps = [p for p in wanted if p.kind == MAP]
        if documents or maps:
            for i, version in enumerate(newest):
                document, of = _distortion(context, archive, version, documents, maps)
                newest[i] = take_distortion(context, version, document, of)
        plates = [p for p in wanted if p.kind == PLATE]
        kinds = dict(said.rsplit("=", 1) for said in plate_kinds if "=" in said)
        for plate in plates:
            files = [(PurePosixPath(f).name, io.BytesIO(archive.read(f))) for f in plate.files]
            row = hand_in_plate(context, newest[0].camera.shot, files, kinds.get(plate.name, plate.plate_kind))
            ask_for_proxies(context, newest[0], row)
    return bool(plates)


def _distortion(
    context: Context,
    archive: zipfile.ZipFile,
    version: Version,
    documents: Sequence[ZipPiece],
    maps: Sequence[ZipPiece],
) -> tuple[dict[str, Any], str]:
    """The document where there is one, else the model that fits the maps best."""
    if documents:
        name = PurePosixPath(documents[0].files[0]).name
        return read_distortion(archive.read(documents[0].files[0]), name), name
    given = [(PurePosixPath(m.files[0]).name, archive.read(m.files[0])) for m in maps[:2]]
    best = fitted_to_maps(context, version, given, list(MODELS))
    guessed = ", size of the render guessed" if any("the render's size" in s for s in best.said) else ""
    return (
        best.document,
        f"{' and '.join(n for n, _ in given)}, fitted within {float(best.off_px.max()):.3f} px{guessed}",
    )
