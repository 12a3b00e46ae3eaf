"""A framing camera in the sphere of its plate: the drawing's numbers, and what workers write of it."""

from __future__ import annotations

import zipfile
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from anaxis.app.context import Context
from anaxis.app.derived.derive import around_version, settings_of, used_version
from anaxis.app.made_files import keep_zip, put_in_zip
from anaxis.app.plates.outputs import zip_of_warped
from anaxis.app.plates.plates import image_of
from anaxis.core.derive.framed import Frame, plate_axes
from anaxis.core.derive.sphere import pixels_of
from anaxis.core.derive.sphere_maps import Sphere
from anaxis.core.errors import BadInput
from anaxis.core.progress import Progress
from anaxis.core.recipe.effects import placement_of
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.delivery.deliver import file_stem
from anaxis.formats.st_map.sphere import write_sphere_maps
from anaxis.queue.jobs import ask_for
from anaxis.store.models import Job, Plate, Version
from anaxis.store.queries import found, picture_of_version, recipe_of, track_of

WORLD, INTO, OUT = "world", "into", "out"


def frame_settings(version: Version) -> Frame:
    """Raises BadInput for a camera that is not a framing camera."""
    settings = settings_of(version)
    if not isinstance(settings, Frame):
        raise BadInput(f"{version.camera.name} is not a framing camera.")
    return settings


def plate_of_sphere(context: Context, version: Version) -> Plate | None:
    """The plate that a framing camera stands in; None where none was chosen, or it was taken away."""
    number = frame_settings(version).plate_id
    plate = context.get(Plate, number) if number else None
    return None if plate is None or plate.removed_at is not None else plate


def sphere_of(context: Context, version: Version) -> Sphere:
    """A framing camera with its plate on every frame, after its recipe."""
    settings, recipe = frame_settings(version), recipe_of(version)
    plate = plate_of_sphere(context, version)
    source = used_version(version.made_of[0])
    axes = plate_axes(track_of(source)[0], settings.plate == "stabilised")
    if recipe:
        axes = placement_of(recipe).turn @ axes[around_version(context, version).kept]
    picture = picture_of_version(version)
    image = settings.plate_image if plate is None else image_of(plate)
    return Sphere(track_of(version)[0], picture.image, picture.fit, image, axes)


def objects_px(context: Context, version: Version, sphere: Sphere) -> Floats:
    """Where the landmarks that are shown lie in the plate on every frame, (n, l, 2)."""
    marks = track_of(version)[1].shown()
    away = marks.position_m - sphere.track.position_m[:, None, :]
    return pixels_of(np.einsum("nji,nmj->nmi", sphere.axes, away), sphere.plate)


def ask_for_sphere_maps(context: Context, version: Version) -> Job:
    """Put down the writing of a framing camera's maps. Raises BadInput."""
    frame_settings(version)
    return ask_for(context, "sphere_maps", version.id, {})


def ask_for_sphere_pictures(context: Context, version: Version, plate: Plate, direction: str) -> Job:
    """Put down the writing of the plate's part that the camera sees (``out``), or of a render put back into the plate
    (``into``, or ``world`` orientation). Raises BadInput."""
    sphere = sphere_of(context, version)
    if direction not in (OUT, INTO, WORLD):
        raise BadInput(f"'{direction[:40]}' is not a direction: choose {OUT}, {INTO} or {WORLD}.")
    wanted, held = sphere.fetched(OUT if direction == OUT else INTO), image_of(plate)
    if (held.width_px, held.height_px) != (wanted.width_px, wanted.height_px):
        raise BadInput(
            f"'{plate.name}' is {held.width_px} x {held.height_px} px, but the map is for {wanted.width_px} x {wanted.height_px} px: "
            "choose the images that the map was made for."
        )
    return ask_for(context, "sphere_pictures", version.id, {"plate": plate.id, "direction": direction})


def write_maps_of_sphere(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Three maps a frame, each read back, and what points carried by them are off by; kept as a zip."""
    version = job.version
    sphere = sphere_of(context, version)
    stem = file_stem(version.camera.name, "sphere", version.camera.shot.name)
    context.release_connection()
    worst, out = 0.0, BytesIO()
    frames = sphere.track.frames.tolist()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive, TemporaryDirectory(prefix="anaxis-maps-") as folder:
        for at, number in enumerate(frames):
            maps = write_sphere_maps(sphere, at, Path(folder), stem, f".{plain_frame(number):04}")
            worst = max(worst, maps.carried_back_px)
            for path in maps.files:
                put_in_zip(archive, out, path)
            tell((at + 1) / len(frames))
    said = f"{3 * len(frames)} maps; points of the render match the plate within {worst:.4f} px of the plate."
    return keep_zip(context, f"{stem}.maps.zip", out, said)


def write_pictures_of_sphere(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Pictures put through the maps of their frames, read back, kept as a zip."""
    version, direction = job.version, job.params["direction"]
    plate = found(context, Plate, job.params["plate"], "plate")
    sphere = sphere_of(context, version)
    stem = file_stem(version.camera.name, direction, version.camera.shot.name)
    context.release_connection()
    of = sphere.at_world() if direction == WORLD else sphere
    suffix = Path(next(iter(plate.files.values()))).suffix
    done, out = zip_of_warped(
        OUT if direction == OUT else INTO, of, sphere.track.frames.tolist(), plate,
        lambda n: f"{stem}.{n + plate.frame_offset:04}{suffix}", tell,
    )  # fmt: skip
    said = f"{len(done.files)} pictures of {done.size.width_px} × {done.size.height_px} px."
    return keep_zip(context, f"{stem}.zip", out, " ".join([said, *done.notes("The plate")]))
