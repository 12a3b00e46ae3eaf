"""Films of a shot, or a reel of a show's shots: asked for by a page or address, made by a worker, kept to be fetched."""

from __future__ import annotations

import zipfile
from collections.abc import Sequence
from dataclasses import asdict
from functools import partial
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, Literal, NamedTuple

import numpy as np
from pydantic import TypeAdapter
from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import get_delivery, options_from, proof_arrays, shot_camera_of
from anaxis.app.deliveries.hand_over import with_set
from anaxis.app.deliveries.returned import get_return, return_arrays
from anaxis.app.made_files import keep_made_file, keep_zip, put_in_zip
from anaxis.app.plates.plates import get_plate, image_of, opened_of
from anaxis.core.errors import BadInput
from anaxis.core.progress import Progress
from anaxis.core.time.rates import format_frame
from anaxis.delivery.deliver import file_stem
from anaxis.library.film import Beside, Film, FilmOptions, Reel, write_film
from anaxis.queue.jobs import ask_for
from anaxis.sandbox.plate_frames import PlateFrames
from anaxis.store.models import Job, Plate, Version

Kind = Literal["mp4", "png", "exr"]
KINDS: dict[Kind, str] = {"mp4": "H.264 movie", "png": "PNG pictures", "exr": "EXR pictures"}
_OPTIONS = TypeAdapter(FilmOptions)


class FilmOrder(NamedTuple):
    """A film of versions, one after the other. ``delivery`` or ``returned`` is one of the first version, whose camera is shown as delivered; ``plate`` is a plate of its shot. ``frame`` asks for a still of one frame, in place of a movie as PNG."""

    versions: Sequence[Version]
    options: FilmOptions
    kind: Kind = "mp4"
    delivery: int | None = None
    returned: int | None = None
    plate: int | None = None
    frame: float | None = None


def ask_for_film(context: Context, order: FilmOrder) -> Job:
    """Put a film down to be made. Raises BadInput for a delivery, return or plate of another camera or shot."""
    first = order.versions[0]
    if order.frame is not None and order.kind == "mp4":
        order = order._replace(kind="png")
    arrived = (get_delivery(context, order.delivery) if order.delivery else None, get_return(context, order.returned) if order.returned else None)  # fmt: skip
    if any(row is not None and row.version_id != first.id for row in arrived):
        raise BadInput("This delivery or return belongs to another version: choose one of this version.")
    if order.plate and get_plate(context, order.plate).shot_id != first.camera.shot_id:
        raise BadInput("This plate belongs to another shot: choose a plate of this shot.")
    if order.frame is not None and not first.facts["first_frame"] <= order.frame <= first.facts["last_frame"]:
        span = f"{format_frame(first.facts['first_frame'])} to {format_frame(first.facts['last_frame'])}"
        raise BadInput(f"The camera has no frame {format_frame(order.frame)}: choose one from {span}.")
    params = {
        "frame": order.frame, "versions": [v.id for v in order.versions], "options": asdict(order.options), "kind": order.kind, "delivery": order.delivery,
        "returned": order.returned, "plate": order.plate,
    }  # fmt: skip
    return ask_for(context, "film", first.id, params)


def films_of(context: Context, version: Version) -> list[Job]:
    """The films that were asked for of a version's camera, newest first."""
    mine = select(Version.id).where(Version.camera_id == version.camera_id)
    query = select(Job).where(Job.kind == "film", Job.version_id.in_(mine)).order_by(Job.id.desc()).limit(20)
    return list(context.execute(query).scalars())


def make_film(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """The film that a job asks for, kept to be fetched: a movie, or its pictures as a zip. Raises BadInput."""
    params, options = job.params, _OPTIONS.validate_python(job.params["options"])
    versions = [context.get_one(Version, v) for v in params["versions"]]
    films, plates = [], []
    for version in versions:
        film, below = _film_of(context, version, options, params if version is versions[0] else {})
        films.append(film)
        plates += [below] if below is not None else []
    shot = versions[0].camera.shot
    stem = (
        file_stem(versions[0].camera.name, "film", shot.name)
        if len(versions) == 1
        else file_stem(shot.show.name, "reel", "")
    )
    context.release_connection()
    reel = Reel(films)
    with TemporaryDirectory(prefix="anaxis-film-") as folder:
        suffix = ".mp4" if params["kind"] == "mp4" else f".####.{params['kind']}"
        files = write_film(reel, Path(folder) / f"{stem}{suffix}", tell=lambda done: tell(done / len(reel)))
        notes = [note for plate in plates for note in plate.notes]
        size = f"{reel.size.width_px} x {reel.size.height_px} px"
        said = " ".join([f"{len(reel)} frames of {size} at {reel.rate} a second.", *notes])
        if len(files) == 1:
            data = files[0].read_bytes()
            made = keep_made_file(context, files[0].name, data)
            return {
                "made_file": made.id,
                "name": files[0].name,
                "bytes": len(data),
                "said": said,
                "movie": params["kind"] == "mp4",
            }
        out = BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
            for file in files:
                put_in_zip(archive, out, file)
    return keep_zip(context, f"{stem}.zip", out, said)


def _film_of(
    context: Context, version: Version, options: FilmOptions, params: dict[str, Any]
) -> tuple[Film, PlateFrames | None]:
    camera = with_set(context, shot_camera_of(context, version), version)
    beside, there = None, None
    if params.get("delivery"):
        delivery = get_delivery(context, params["delivery"])
        deviation_px, arrived = proof_arrays(delivery)
        beside, there = Beside(arrived, deviation_px), options_from(delivery.options).first
    elif params.get("returned"):
        frames, deviation_px, arrived = return_arrays(get_return(context, params["returned"]))
        index = np.flatnonzero(np.isin(np.round(camera.track.frames, 4), np.round(frames, 4)))
        if not len(index):
            raise BadInput("The returned camera shares no frame with this version, so there is nothing to show.")
        camera, beside = camera.at_frames(index), Beside(arrived, deviation_px)
    if params.get("frame") is not None:
        at = int(np.abs(camera.track.frames - params["frame"]).argmin())
        camera, beside = camera.at_frames(np.array([at])), None if beside is None else beside.at_frames(np.array([at]))
    plate = get_plate(context, params["plate"]) if params.get("plate") else None
    below = None if plate is None else _below(plate)
    as_shot = plate is not None and plate.kind != "undistorted" and camera.track.distortion is not None
    held = version.camera
    return Film(camera, options, f"{held.shot.name} {held.name} {version.label}", beside, below, as_shot, there), below


def _below(plate: Plate) -> PlateFrames:
    files = {int(n): Path(name) for n, name in plate.files.items()}
    opened = partial(opened_of, plate.root, plate.folder)
    return PlateFrames(files, image_of(plate).width_px, plate.frame_offset, plate.view, plate.stops, opened)
