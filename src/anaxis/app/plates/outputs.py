"""What workers write of a distorted plate: ST maps, the undistorted plate, a render put into the root format; as a zip."""

from __future__ import annotations

import zipfile
from contextlib import ExitStack
from functools import partial
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, BinaryIO, cast

import numpy as np

from anaxis.app.context import Context
from anaxis.app.made_files import keep_zip, put_in_zip
from anaxis.app.plates.plates import ask_for_proxies, hand_in_plate, opened_of, plates_of
from anaxis.core.camera.track import Track
from anaxis.core.checks.plates import lacking
from anaxis.core.errors import BadInput
from anaxis.core.motion.reduce import Progress
from anaxis.core.scene.landmarks import unique_name
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import plain_frame
from anaxis.delivery.deliver import file_stem
from anaxis.formats.plates.warp import require_filter
from anaxis.formats.st_map.pair import MapsOf, write_pair
from anaxis.library.plate_of_camera import PlateOfCamera
from anaxis.queue.jobs import ask_for
from anaxis.sandbox.plate_warp import through_maps
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
    frames = np.round(track.frames).astype(int).tolist()
    place = {f: i for i, f in enumerate(frames)}
    numbers = [n for n in plate.numbers if n + plate.frame_offset in place]
    if not numbers:
        raise BadInput(f"'{plate.name}' and the camera have no frame in common: set the plate's offset on Plate.")
    suffix = Path(next(iter(plate.files.values()))).suffix
    names = {n: f"{plate.name}.{kind}ed.{n:04}{suffix}" for n in numbers}
    steps, errors = 0.0, []
    out = BytesIO()
    with (
        zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive,
        TemporaryDirectory(prefix="anaxis-warped-") as folder,
    ):
        places = {n: place[n + plate.frame_offset] for n in numbers}
        files = {n: Path(plate.files[str(n)]) for n in numbers}
        opened, aside = partial(opened_of, plate.root, plate.folder), Path(folder)
        done_of = through_maps(kind, maps, places, files, params["filter"], names, aside, aside, opened)
        for count, done in enumerate(done_of, 1):
            if "error" in done:
                errors.append(f"frame {done['frame']}: {done['error']}")
            else:
                steps = max(steps, done["steps_off"])
                put_in_zip(archive, out, done["path"])
            tell(count / len(numbers))
    if len(errors) == len(numbers):
        raise BadInput(errors[0])
    size = maps.render.image if kind == "undistort" else maps.render.plate
    said = f"{len(numbers) - len(errors)} pictures of {size.width_px} × {size.height_px} px, read back within {steps:.3g} steps of their depth."
    missing = [f for f in frames if f - plate.frame_offset not in places]
    if missing:
        said += f" {lacking('The plate', missing, len(frames))}."
    if errors:
        said += f" Not written: {'; '.join(errors[:3])}{f' and {len(errors) - 3} more' if len(errors) > 3 else ''}."
    if kind == "undistort":
        said += _attached(context, version, plate, out)
    return keep_zip(context, f"{plate.name}.{kind}ed.zip", out, said)


def _attached(context: Context, version: Version, plate: Plate, written: BytesIO) -> str:
    """The undistorted pictures as a plate of the shot, beside the one that they were made of; what is to be said of it."""
    shot = version.camera.shot
    name = unique_name(f"{plate.name}_undistorted", {p.name for p in plates_of(context, shot)})
    try:
        with zipfile.ZipFile(written) as archive, ExitStack() as stack:
            pictures = [(n, cast(BinaryIO, stack.enter_context(archive.open(n)))) for n in archive.namelist()]
            row = hand_in_plate(context, shot, pictures, "undistorted", name)
    except BadInput as error:
        return f" They were not attached to the shot: {error.sentence}"
    row.frame_offset = plate.frame_offset
    ask_for_proxies(context, version, row)
    return f" They are the shot's plate '{name}', undistorted."
