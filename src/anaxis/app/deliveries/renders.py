"""A render that came back, checked against what was asked of it and laid on the plate as shot."""

from __future__ import annotations

from dataclasses import asdict
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import cv2
import numpy as np

from anaxis.app.acting import use_case
from anaxis.app.cameras.take_in import disk_name
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import options_from
from anaxis.app.plates.plates import opened_of
from anaxis.core.camera.plate.overscan import Overscan, no_overscan
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import format_frame
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.overscan import needed_of, render_of
from anaxis.diagnosis.stills import measure, read_png
from anaxis.formats.plates.picture import PictureFacts, facts_from_dict
from anaxis.formats.st_map.write import write_st_map
from anaxis.library.plate_of_camera import PlateOfCamera
from anaxis.sandbox.plates import plate_work
from anaxis.store.models import Plate, Still, Version
from anaxis.store.queries import picture_of_version, track_of


@use_case("check a render")
def check_render(context: Context, version: Version, plate: Plate, at: int, name: str, data: bytes) -> Still:
    """A render of the sample ``at``: its size, data window and edges, and how it lies on the plate once it is distorted.

    Raises BadInput where it or the plate's picture cannot be read, or its size is none that was asked for.
    """
    track, picture = track_of(version)[0], picture_of_version(version)
    frame = float(track.frames[at])
    number = round(frame) - plate.frame_offset
    if str(number) not in plate.files:
        raise BadInput(f"'{plate.name}' has no picture for frame {format_frame(frame)}: choose a frame that it has.")
    known = _renders(version, track, picture)
    context.release_connection()
    with TemporaryDirectory(prefix="anaxis-render-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(data)
        facts = _facts(path)
        render = next((r for r in known if _same_size(facts, r)), None)
        if render is None:
            sizes = ", ".join(dict.fromkeys(f"{r.image.width_px} x {r.image.height_px}" for r in known))
            raise BadInput(
                f"{name} is {facts.width_px} x {facts.height_px} px instead of {sizes}: render it at that size with its film back."
                "", "wrong_size",
            )  # fmt: skip
        maps = None
        if track.distortion is not None:
            maps = {0: Path(folder) / "distort.exr"}
            write_st_map(PlateOfCamera(track, picture).maps(render).map("distort", at), maps[0])
        rendered, found = _shown(path, maps, Path(folder))
        shot, _ = _shown(Path(plate.files[str(number)]), None, Path(folder), plate)
    if maps is None and render.image != render.plate:
        rendered = _cropped(rendered, render)
    ours, theirs = read_png(shot), read_png(rendered)
    if ours.shape != theirs.shape:
        ours = np.asarray(cv2.resize(ours, theirs.shape[1::-1], interpolation=cv2.INTER_AREA), dtype=np.uint8)
        shot = cv2.imencode(".png", ours)[1].tobytes()
    measured: dict[str, Any] = asdict(measure(ours, theirs))
    measured |= {
        "width_px": ours.shape[1],
        "height_px": ours.shape[0],
        "checks": _checks(facts, found, render),
        "render": True,
    }
    row = Still(
        version_id=version.id, frame=frame, our_name=f"{plate.name}, the plate as shot", their_name=name, ours=shot, theirs=rendered,
        measured=measured,
    )  # fmt: skip
    context.add(row)
    context.flush()
    return row


def _renders(version: Version, track: Track, picture: Picture) -> list[Overscan]:
    """The renders that somebody may have been asked for: those of the deliveries, what the distortion needs, the plate's own."""
    out = []
    for asked in (options_from(d.options) for d in version.deliveries if d.options.get("overscan")):
        render = render_of(track, picture, asked)
        if render is not None and render not in out:
            out.append(render)
    if track.distortion is not None:
        out.append(needed_of(track, picture, DeliveryOptions()).overscan)
    return [*out, no_overscan(picture.image)]


def _facts(path: Path) -> PictureFacts:
    (done,) = plate_work({"do": "facts"}, {0: path})
    if "error" in done:
        raise BadInput(done["error"])
    return facts_from_dict(done["facts"])


def _same_size(facts: PictureFacts, render: Overscan) -> bool:
    return (facts.width_px, facts.height_px) == (render.image.width_px, render.image.height_px)


def _shown(
    path: Path, maps: dict[int, Path] | None, folder: Path, plate: Plate | None = None
) -> tuple[bytes, dict[str, Any]]:
    """A picture as a display shows it, put through a map where there is one, as PNG; and what its edges tell."""
    opened = None if plate is None else partial(opened_of, plate.root, plate.folder)
    task = {"do": "shown", "view": plate.view if plate else "plain", "stops": plate.stops if plate else 0.0}
    (done,) = plate_work(task, {0: path}, maps, opened=opened)
    if "error" in done:
        raise BadInput(done["error"])
    return done["data"], done


def _cropped(data: bytes, render: Overscan) -> bytes:
    x, y = round(-render.x_px), round(-render.y_px)
    inside = read_png(data)[y : y + render.plate.height_px, x : x + render.plate.width_px]
    return bytes(cv2.imencode(".png", np.ascontiguousarray(inside))[1].tobytes())


def _checks(facts: PictureFacts, found: dict[str, Any], render: Overscan) -> list[dict[str, str]]:
    """What is to be said of a render, each as "ok" or "bad" with a sentence."""
    image = render.image
    out = [{"state": "ok", "said": f"The size is as requested, {image.width_px} × {image.height_px} px."}]
    x, y, width, height = facts.data_px
    if x > 0 or y > 0 or x + width < image.width_px or y + height < image.height_px:
        said = f"The render has pixels only from {x}, {y} over {width} × {height} px: render the whole picture without a region."
        out.append({"state": "bad", "said": said})
    else:
        out.append({"state": "ok", "said": "The render has pixels everywhere."})
    if abs(facts.pixel_aspect / image.pixel_aspect - 1) > 1e-3:
        said = f"The render states pixels {facts.pixel_aspect:g} times as wide as high, and the plate's are {image.pixel_aspect:g}."
        out.append({"state": "bad", "said": said})
    for what, remedy in (
        ("smeared", "the border was stretched outward: render a larger picture instead"),
        ("empty", "nothing was rendered there"),
    ):
        for side, depth in found["edges"][what].items():
            out.append({"state": "bad", "said": f"It is {what} at the {side}, {depth} px deep: {remedy}."})
    if not (found["edges"]["smeared"] or found["edges"]["empty"]):
        even = found["edges"]["even"]
        said = "The edges are neither smeared nor empty."
        if even:
            said = (
                f"The edges are not empty; an even picture does not show whether they are smeared ({', '.join(even)})."
            )
        out.append({"state": "ok", "said": said})
    return out
