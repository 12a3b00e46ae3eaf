"""What workers write of a distorted plate: ST maps, the undistorted plate, a render put into the root format; as a zip."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from functools import partial
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, BinaryIO, cast

from anaxis.app.context import Context
from anaxis.app.made_files import keep_zip, put_in_zip
from anaxis.app.plates.plates import ask_for_proxies, hand_in_plate, opened_of, plates_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.progress import Progress
from anaxis.core.scene.landmarks import unique_name
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import plain_frame
from anaxis.delivery.deliver import file_stem
from anaxis.formats.plates.warp import USUAL_FILTER, require_filter
from anaxis.formats.st_map.pair import MapsOf, write_pair
from anaxis.library.plate_of_camera import PlateOfCamera
from anaxis.queue.jobs import ask_for
from anaxis.sandbox.plate_warp import Maps, NumberedPictures, WarpedPictures, warp_pictures
from anaxis.store.models import Job, Plate, Version
from anaxis.store.queries import found, picture_of_version, track_of


def ask_for_maps(context: Context, version: Version, overscan: bool, every_frame: bool) -> Job:
    """Put down the writing of a plate's ST maps. Raises BadInput for a camera without a distortion."""
    PlateOfCamera(track_of(version)[0], picture_of_version(version)).require_distortion()
    return ask_for(context, "maps", version.id, {"overscan": overscan, "every_frame": every_frame})


def ask_for_warped(
    context: Context, version: Version, plate: Plate, kind: str, overscan: bool, filter_name: str
) -> Job:
    """Put down the writing of a plate undistorted, or of a render distorted. Raises BadInput."""
    PlateOfCamera(track_of(version)[0], picture_of_version(version)).require_distortion()
    params = {"plate": plate.id, "kind": kind, "overscan": overscan, "filter": require_filter(filter_name)}
    return ask_for(context, "warped", version.id, params)


def _maps_of(track: Track, picture: Picture, overscan: bool) -> MapsOf:
    of = PlateOfCamera(track, picture)
    return of.maps(of.overscan().overscan if overscan else None)


def write_maps(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Both maps of one frame or of all, each read back and measured; kept as a zip."""
    version = job.version
    track, picture = track_of(version)[0], picture_of_version(version)
    stem = file_stem(version.camera.name, "maps", version.camera.shot.name)
    context.release_connection()
    maps = _maps_of(track, picture, job.params["overscan"])
    places = range(len(track)) if job.params["every_frame"] else [0]
    worst: dict[str, float] = {}
    out = BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive, TemporaryDirectory(prefix="anaxis-maps-") as folder:
        for count, at in enumerate(places, 1):
            numbered = f".{plain_frame(track.frames[at]):04}" if len(places) > 1 else ""
            for kind, one in write_pair(maps, at, Path(folder), stem, numbered, force=True).items():
                worst[kind] = max(worst.get(kind, 0.0), one["max_px"])
                put_in_zip(archive, out, Path(folder) / one["file"])
            tell(count / len(places))
    size = maps.render.image
    measured = [f"the {kind} maps read back within {px:.5f} px" for kind, px in worst.items()]
    said = f"{len(places)} pair{'s' if len(places) > 1 else ''}, undistorted {size.width_px} × {size.height_px} px; {', '.join(measured)}."
    return keep_zip(context, f"{stem}.zip", out, said)


def write_warped(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """A plate's pictures put through its maps, each read back and measured; kept as a zip."""
    version, params = job.version, job.params
    plate = found(context, Plate, params["plate"], "plate")
    track, picture = track_of(version)[0], picture_of_version(version)
    context.release_connection()
    kind, maps = params["kind"], _maps_of(track, picture, params["overscan"])
    suffix = Path(next(iter(plate.files.values()))).suffix
    done, out = zip_of_warped(
        kind,
        maps,
        track.frames.tolist(),
        plate,
        lambda n: f"{plate.name}.{kind}ed.{n:04}{suffix}",
        tell,
        params["filter"],
    )
    size = done.size
    said = f"{len(done.files)} pictures of {size.width_px} × {size.height_px} px, read back within {done.steps_off:.3g} steps of their depth."
    said = " ".join([said, *done.notes("The plate")])
    if kind == "undistort":
        said += _attached(context, version, plate, out)
    return keep_zip(context, f"{plate.name}.{kind}ed.zip", out, said)


def zip_of_warped(
    kind: str, maps: Maps, frames: Sequence[float], plate: Plate, name_of: Callable[[int], str], tell: Progress,
    filter_name: str = USUAL_FILTER,
) -> tuple[WarpedPictures, BytesIO]:  # fmt: skip
    """A plate's pictures put through the maps of a camera's ``frames``, as a zip. Raises BadInput."""
    files = {n: Path(plate.files[str(n)]) for n in plate.numbers if str(n) in plate.files}
    pictures = NumberedPictures(plate.name, files, plate.frame_offset, partial(opened_of, plate.root, plate.folder))
    out = BytesIO()
    with (
        zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive,
        TemporaryDirectory(prefix="anaxis-warped-") as folder,
    ):

        def each(path: Path | None, share: float) -> None:
            if path is not None:
                put_in_zip(archive, out, path)
            tell(share)

        done = warp_pictures(kind, maps, frames, pictures, Path(folder), name_of, filter_name=filter_name, each=each)
    return done, out


def _attached(context: Context, version: Version, plate: Plate, written: BytesIO) -> str:
    """The undistorted pictures as a plate of the shot, beside the one that they were made of; what is to be said of it."""
    shot = version.camera.shot
    name = unique_name(f"{plate.name}_undistorted", {p.name for p in plates_of(context, shot)})
    try:
        with zipfile.ZipFile(written) as archive, ExitStack() as stack:
            pictures = [(n, cast(BinaryIO, stack.enter_context(archive.open(n)))) for n in archive.namelist()]
            row = hand_in_plate(context, shot, pictures, "undistorted", name)
    except BadInput as error:
        return f" Not attached to the shot: {error.sentence}"
    row.frame_offset = plate.frame_offset
    ask_for_proxies(context, version, row)
    return f" Attached to the shot as plate '{name}', undistorted."
