"""A framing camera in the sphere of its plate: the drawing's numbers, and what workers write of it."""

from __future__ import annotations

import zipfile
from functools import partial
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from anaxis.app.context import Context
from anaxis.app.derived.derive import around_version, settings_of, used_version
from anaxis.app.made_files import keep_zip, put_in_zip
from anaxis.app.plates.plates import image_of, opened_of
from anaxis.core.camera.lens import Image
from anaxis.core.derive.framed import Frame, plate_axes
from anaxis.core.derive.sphere import pixels_of
from anaxis.core.derive.sphere_maps import Sphere, map_error_px
from anaxis.core.errors import BadInput
from anaxis.core.motion.reduce import Progress
from anaxis.core.recipe.effects import placement_of
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.delivery.deliver import file_stem
from anaxis.formats.st_map.read import read_map_back
from anaxis.formats.st_map.write import write_st_map
from anaxis.queue.jobs import ask_for
from anaxis.sandbox.plate_warp import through_maps
from anaxis.store.models import Job, Plate, Version
from anaxis.store.queries import found, picture_of_version, recipe_of, track_of

WORLD, INTO, OUT = "world", "into", "out"


def frame_settings(version: Version) -> Frame:
    """Raises BadInput for a camera that is not framed in a sphere."""
    settings = settings_of(version)
    if not isinstance(settings, Frame):
        raise BadInput(f"{version.camera.name} is not framed in a sphere.")
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


def carried_back_px(sphere: Sphere, most: int = 1024) -> float:
    """By how many pixels of the plate points of the render come back elsewhere through the map into it, on the first, a
    middle and the last frame; of a larger plate a smaller one of the same sphere is looked at, whose pixels count as
    larger by as much."""
    width = min(sphere.plate.width_px, most)
    small = sphere._replace(plate=Image(width, width // 2))
    places = sorted({0, len(sphere.track) // 2, len(sphere.track) - 1})
    return max(map_error_px(small, small.map(INTO, at), at) for at in places)


def ask_for_sphere_maps(context: Context, version: Version) -> Job:
    """Put down the writing of a framing camera's maps. Raises BadInput."""
    frame_settings(version)
    return ask_for(context, "sphere_maps", version.id, {})


def ask_for_sphere_pictures(context: Context, version: Version, plate: Plate, direction: str) -> Job:
    """Put down the writing of the plate's part that the camera sees (``out``), or of a render put back into the plate
    (``into``, or ``world`` orientation). Raises BadInput."""
    sphere = sphere_of(context, version)
    if direction not in (OUT, INTO, WORLD):
        raise BadInput(f"'{direction[:40]}' is no way: choose {OUT}, {INTO} or {WORLD}.")
    wanted, held = sphere.fetched(OUT if direction == OUT else INTO), image_of(plate)
    if (held.width_px, held.height_px) != (wanted.width_px, wanted.height_px):
        raise BadInput(
            f"'{plate.name}' is {held.width_px} x {held.height_px} px and the map fetches in {wanted.width_px} x {wanted.height_px} px: "
            "choose the pictures that it was made for."
        )
    return ask_for(context, "sphere_pictures", version.id, {"plate": plate.id, "direction": direction})


def at_world(sphere: Sphere) -> Sphere:
    """The same, with the plate at world orientation: un-followed."""
    return sphere._replace(axes=np.broadcast_to(np.eye(3), sphere.axes.shape))


def write_sphere_maps(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Three maps a frame, each read back, and what points carried by them are off by; kept as a zip."""
    version = job.version
    sphere = sphere_of(context, version)
    stem = file_stem(version.camera.name, "sphere", version.camera.shot.name)
    context.release_connection()
    worst, out = 0.0, BytesIO()
    frames = sphere.track.frames.tolist()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive, TemporaryDirectory(prefix="anaxis-maps-") as folder:
        for at, number in enumerate(frames):
            for kind, of, direction in ((OUT, sphere, OUT), (INTO, sphere, INTO), (WORLD, at_world(sphere), INTO)):
                path = Path(folder) / f"{stem}.{kind}.{plain_frame(number):04}.exr"
                write_st_map(of.map(direction, at), path)
                if direction == INTO:
                    worst = max(worst, map_error_px(of, read_map_back(path), at))
                put_in_zip(archive, out, path)
            tell((at + 1) / len(frames))
    said = f"{3 * len(frames)} maps; points of the render come back within {worst:.4f} px of the plate."
    return keep_zip(context, f"{stem}.maps.zip", out, said)


def write_sphere_pictures(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Pictures put through the maps of their frames, read back, kept as a zip."""
    version, direction = job.version, job.params["direction"]
    plate = found(context, Plate, job.params["plate"], "plate")
    sphere = sphere_of(context, version)
    stem = file_stem(version.camera.name, direction, version.camera.shot.name)
    context.release_connection()
    of = at_world(sphere) if direction == WORLD else sphere
    kind = OUT if direction == OUT else INTO
    place = {round(f): i for i, f in enumerate(sphere.track.frames.tolist())}
    places = {
        n: place[n + plate.frame_offset]
        for n in plate.numbers
        if n + plate.frame_offset in place and str(n) in plate.files
    }
    if not places:
        raise BadInput(f"'{plate.name}' has no picture on the camera's frames: type its offset on Plate.")
    names = {n: f"{stem}.{n + plate.frame_offset:04}{Path(plate.files[str(n)]).suffix}" for n in places}
    errors, out = [], BytesIO()
    with (
        zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive,
        TemporaryDirectory(prefix="anaxis-sphere-") as folder,
    ):
        aside, files = Path(folder), {n: Path(plate.files[str(n)]) for n in places}
        opened = partial(opened_of, plate.root, plate.folder)
        done_of = through_maps(kind, of, places, files, "cubic", names, aside, aside, opened, kind == OUT, kind == INTO)
        for count, done in enumerate(done_of, 1):
            if "error" in done:
                errors.append(f"frame {done['frame']}: {done['error']}")
            else:
                put_in_zip(archive, out, done["path"])
            tell(count / len(places))
    if len(errors) == len(places):
        raise BadInput(errors[0])
    size = of.image if kind == OUT else of.plate
    said = f"{len(places) - len(errors)} pictures of {size.width_px} × {size.height_px} px."
    if errors:
        said += f" Not written: {'; '.join(errors[:3])}{f' and {len(errors) - 3} more' if len(errors) > 3 else ''}."
    return keep_zip(context, f"{stem}.zip", out, said)
