"""Plates of a shot: found below the media roots or handed in, attached, shown, taken away; and their proxies."""

from __future__ import annotations

import zipfile
from collections.abc import Sequence
from datetime import UTC, datetime
from fractions import Fraction
from functools import partial
from pathlib import Path
from secrets import token_hex
from tempfile import TemporaryDirectory
from typing import Any, BinaryIO, NamedTuple

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import undefer

from anaxis.app.acting import use_case
from anaxis.app.cameras.take_in import disk_name
from anaxis.app.context import Context
from anaxis.app.plates.media_roots import require_pictures, require_root_for
from anaxis.core.camera.lens import Image
from anaxis.core.checks import plates as checks
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.image_plane import Pictures
from anaxis.core.progress import Progress
from anaxis.formats.plates import MOVIE_SUFFIXES, SUFFIXES
from anaxis.formats.plates.display import MAX_STOPS, VIEWS
from anaxis.formats.plates.found import Found, sequences_among
from anaxis.formats.plates.picture import facts_from_dict
from anaxis.formats.zip_upload import UNPACKED_TIMES, unpack
from anaxis.queue.jobs import OPEN, ask_for
from anaxis.sandbox.guard import limits_from_environment
from anaxis.sandbox.plate_look import PlateSummary, look_at
from anaxis.sandbox.plates import plate_work
from anaxis.store.contents import values_of
from anaxis.store.media_folders import HANDED_IN, listed, opened, put_aside, root_of, take_away
from anaxis.store.models import Job, Plate, PlateProxy, Shot, Version
from anaxis.store.queries import found, picture_of_version, track_of

MAX_NAME = 120
# Heads looked at before a plate is attached; the rest are read when its proxies are made.
_LOOKED_AT = 24
_KEPT_AT_ONCE = 12


class BrowsedFolder(NamedTuple):
    """A folder below a media root as a page shows it."""

    root: str
    folder: str
    folders: list[str]
    sequences: list[Found]


def folder_of(root: str, folder: str) -> BrowsedFolder:
    """What a folder below a media root holds. Raises BadInput."""
    inside = listed(root, folder)
    return BrowsedFolder(root, folder.strip("/"), inside.folders, sequences_among(inside.files))


@use_case("attach a plate")
def attach_plate(
    context: Context, shot: Shot, root: str, folder: str, sequence: str, kind: str, name: str = ""
) -> Plate:
    """A sequence below a media root that is open to the shot's show becomes a plate of the shot. Raises BadInput, NotOpen."""
    require_root_for(context, root, shot.show)
    held = next((f for f in folder_of(root, folder).sequences if f.name == sequence), None)
    if held is None:
        raise BadInput(f"There is no sequence '{sequence[:80]}' in {folder or root} any more: reload the folder.")
    return _attached(context, shot, root, folder.strip("/"), held, kind, name)


@use_case("upload a plate")
def hand_in_plate(
    context: Context, shot: Shot, files: Sequence[tuple[str, BinaryIO]], kind: str, name: str = ""
) -> Plate:
    """Files handed in, or a zip of them, become a plate of a shot. Raises BadInput, and then nothing is kept."""
    folder = f"{disk_name(shot.name)}-{token_hex(6)}"
    context.release_connection()
    try:
        return _handed_in(context, shot, folder, files, kind, name)
    except BaseException:
        take_away(folder)
        raise


def _handed_in(
    context: Context, shot: Shot, folder: str, files: Sequence[tuple[str, BinaryIO]], kind: str, name: str
) -> Plate:
    for given, source in files:
        if Path(given).suffix.lower() == ".zip":
            _unzipped(folder, given, source)
        else:
            _require_picture(given)
            put_aside(folder, disk_name(given), source)
    sequences = sequences_among(listed(HANDED_IN, folder).files)
    if len(sequences) != 1:
        names = ", ".join(f.name for f in sequences[:5]) or "none"
        raise BadInput(f"The upload must be one image sequence or one movie; this one has {len(sequences)}: {names}.")
    return _attached(context, shot, HANDED_IN, folder, sequences[0], kind, name)


def _require_picture(name: str) -> None:
    if Path(name).suffix.lower() not in SUFFIXES:
        raise BadInput(f"'{name[:80]}' is not a readable image: use {', '.join(SUFFIXES)}, or a zip of them.")


def _unzipped(folder: str, name: str, source: BinaryIO) -> None:
    with TemporaryDirectory(prefix="anaxis-plate-") as aside:
        path = Path(aside) / "in.zip"
        with path.open("wb") as out:
            while piece := source.read(1 << 20):
                out.write(piece)
        if not zipfile.is_zipfile(path):
            raise BadInput(f"{name} is not a readable zip: it is damaged or another kind of file. Pack it again.")
        for one in unpack(path, Path(aside) / "out", UNPACKED_TIMES * limits_from_environment().max_bytes, SUFFIXES):
            with one.open("rb") as held:
                put_aside(folder, disk_name(one.name), held)
            one.unlink()


def _attached(context: Context, shot: Shot, root: str, folder: str, held: Found, kind: str, name: str) -> Plate:
    named = (name.strip() or Path(held.name).stem.rstrip("#._- "))[:MAX_NAME]
    if kind not in checks.PLATE_KINDS:
        raise BadInput(f"'{kind[:40]}' is not a kind of plate: choose one of {', '.join(checks.PLATE_KINDS)}.")
    if any(p.name == named for p in plates_of(context, shot)):
        raise BadInput(f"The shot has a plate '{named}' already: use another name for this one.")
    context.release_connection()
    looked = look_at(held, kind, opened=partial(opened_of, root, folder), most=_LOOKED_AT)
    plate = Plate(
        shot_id=shot.id, name=named, kind=kind, root=root, folder=folder,
        files={str(n): Path(f).name for n, f in held.files.items()}, facts=looked.facts.as_dict(), seen=_seen(looked),
    )  # fmt: skip
    context.add(plate)
    context.flush()
    return plate


def opened_of(root: str, folder: str, path: Path) -> BinaryIO:
    """A plate's file by its name alone, wherever its path says it lies."""
    return opened(root, folder, path.name)


def _seen(looked: PlateSummary) -> dict[str, Any]:
    plate = looked.plate
    rate = plate.rate
    return {
        "missing": list(plate.missing), "doubled": list(plate.doubled), "movie_frames": looked.movie_frames,
        "broken": {str(k): v for k, v in plate.broken.items()}, "sizes": {str(k): list(v) for k, v in plate.sizes.items()},
        "rate": None if rate is None else [rate.numerator, rate.denominator],
    }  # fmt: skip


@use_case("change a plate")
def change_plate(context: Context, plate: Plate, kind: str, offset: int, view: str, stops: float) -> Plate:
    """Which plate it is, how its numbers meet the camera's frames, and how it is shown. Raises BadInput."""
    if kind not in checks.PLATE_KINDS or view not in VIEWS:
        raise BadInput("Choose kind and view of the plate from the lists.")
    if not (abs(offset) <= 10_000_000 and abs(stops) <= MAX_STOPS):
        raise BadInput(f"The offset must be within ten million frames, and stops within {MAX_STOPS:g}.")
    plate.kind, plate.frame_offset, plate.view, plate.stops = kind, offset, view, stops
    return plate


@use_case("remove a plate")
def remove_plate(context: Context, plate: Plate) -> Plate:
    """The plate is no longer one of its shot's; its files stay where they are, its proxies go."""
    plate.removed_at = datetime.now(UTC)
    drop_proxies(context, plate)
    return plate


def drop_proxies(context: Context, plate: Plate) -> None:
    """Proxies can be made again at any time."""
    context.execute(delete(PlateProxy).where(PlateProxy.plate_id == plate.id))


def plates_of(context: Context, shot: Shot) -> list[Plate]:
    """A shot's plates, those as shot first."""
    query = select(Plate).where(Plate.shot_id == shot.id, Plate.removed_at.is_(None)).order_by(Plate.kind, Plate.id)
    return list(context.execute(query).scalars())


def get_plate(context: Context, number: int) -> Plate:
    return found(context, Plate, number, "plate")


def as_checked(plate: Plate) -> checks.CheckedPlate:
    """A plate as its checks take it."""
    facts, seen = facts_from_dict(plate.facts), plate.seen
    rate = seen.get("rate")
    kind: Any = plate.kind
    return checks.CheckedPlate(
        plate.name, kind, image_of(plate), facts.data_px, tuple(plate.numbers), plate.frame_offset, tuple(seen.get("missing", ())),
        tuple(seen.get("doubled", ())), {int(k): v for k, v in seen.get("broken", {}).items()},
        {int(k): (int(v[0]), int(v[1])) for k, v in seen.get("sizes", {}).items()}, Fraction(*rate) if rate else None,
    )  # fmt: skip


def image_of(plate: Plate) -> Image:
    facts = facts_from_dict(plate.facts)
    return Image(facts.width_px, facts.height_px, facts.pixel_aspect)


def findings_of_plate(plate: Plate, version: Version) -> list[Finding]:
    """What is to be said of a plate behind a camera."""
    return checks.check_plate(
        checks.PlateContext(as_checked(plate), track_of(version)[0], picture_of_version(version).image)
    )


# Proxies


def proxy_numbers(context: Context, plate: Plate, look: str = "") -> list[int]:
    """The pictures whose proxies are there, as the plate is shown now, or by another ``look``."""
    query = select(PlateProxy.number).where(PlateProxy.plate_id == plate.id, PlateProxy.look == (look or plate.look))
    return sorted(context.execute(query).scalars())


def proxy_of(context: Context, plate: Plate, number: int) -> bytes | None:
    """A picture of a plate; None where it is not made yet. Raises NotOpen."""
    require_pictures(context, plate)
    row = context.get(PlateProxy, (plate.id, number, plate.look), options=[undefer(PlateProxy.in_row)])
    return None if row is None else row.data


def ask_for_proxies(context: Context, version: Version, plate: Plate) -> Job | None:
    """The work that makes what is not there yet; None where all is. Asked for twice it is the same work."""
    query = select(Job).where(Job.kind == "proxies", Job.state.in_(OPEN)).order_by(Job.id)
    for job in context.execute(query).scalars():
        if job.params.get("plate") == plate.id and job.params.get("look") == plate.look:
            return job
    if len(proxy_numbers(context, plate)) >= len(plate.numbers) - len(plate.seen.get("broken", {})):
        return None
    # As it is shown now: by the time they are made somebody may have chosen otherwise.
    params = {"plate": plate.id, "look": plate.look, "view": plate.view, "stops": plate.stops}
    return ask_for(context, "proxies", version.id, params)


def _is_coming(context: Context, plate: Plate) -> bool:
    """Whether proxies of it are being made."""
    job = newest_proxy_work(context, plate)
    return job is not None and job.state in OPEN


def newest_proxy_work(context: Context, plate: Plate) -> Job | None:
    query = (
        select(Job).where(Job.kind == "proxies", Job.params["plate"].as_integer() == plate.id).order_by(Job.id.desc())
    )
    return context.execute(query.limit(1)).scalars().first()


def make_proxies(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Every proxy that is not there yet; some at a time are kept, so that work taken up again goes on where it was."""
    plate, look = get_plate(context, job.params["plate"]), job.params["look"]
    require_pictures(context, plate)
    there = set(proxy_numbers(context, plate, look))
    engine, wanted = context.get_bind(), [n for n in plate.numbers if n not in there]
    context.release_connection()
    if not wanted:
        return {"made": 0}
    movie = Path(next(iter(plate.files.values()))).suffix.lower() in MOVIE_SUFFIXES
    files = {0: Path(plate.files["0"])} if movie else {n: Path(plate.files[str(n)]) for n in wanted}
    shown = {k: job.params[k] for k in ("view", "stops")}
    task = {"do": "proxies", **shown, "first": wanted[0] if movie else 0}
    waiting: list[dict[str, Any]] = []
    broken: dict[str, str] = {}
    sizes: dict[str, list[int]] = {}
    size = [plate.facts["width_px"], plate.facts["height_px"]]

    def keep() -> None:
        if waiting:
            with Context(engine, context.actor) as own, own.begin():
                rows = [w["of"] | values_of(own, w["data"]) for w in waiting]
                own.execute(insert(PlateProxy).values(rows).on_conflict_do_nothing())
            waiting.clear()

    for count, done in enumerate(plate_work(task, files, opened=partial(opened_of, plate.root, plate.folder)), 1):
        if "error" in done:
            broken[str(done["frame"])] = done["error"]
        else:
            of = {"plate_id": plate.id, "number": done["number"], "look": look}
            waiting.append({"of": of, "data": done["data"]})
            if "facts" in done and [done["facts"]["width_px"], done["facts"]["height_px"]] != size:
                sizes[str(done["number"])] = [done["facts"]["width_px"], done["facts"]["height_px"]]
        if len(waiting) >= _KEPT_AT_ONCE:
            keep()
        tell((len(there) + count) / max(1, len(plate.numbers)))
    keep()
    context.refresh(plate, with_for_update=True)
    plate.seen = {
        **plate.seen,
        "broken": {**plate.seen.get("broken", {}), **broken},
        "sizes": {**plate.seen.get("sizes", {}), **sizes},
    }
    return {"made": len(wanted) - len(broken), "broken": len(broken)}


def shown_of(context: Context, plate: Plate, version: Version) -> dict[str, Any]:
    """What a page needs to lay a plate behind a camera: which numbers are there, and where its picture lies in the camera's."""
    image, camera = image_of(plate), picture_of_version(version).image
    if plate.kind == "undistorted" and image.width_px >= camera.width_px and image.height_px >= camera.height_px:
        wide, high = float(image.width_px), float(image.height_px)  # the same pixels, the camera's about its middle
    else:
        wide, high = float(camera.width_px), float(camera.height_px)
    return {
        "id": plate.id, "name": plate.name, "kind": plate.kind, "offset": plate.frame_offset, "look": plate.look,
        "numbers": proxy_numbers(context, plate), "all": len(plate.numbers), "coming": _is_coming(context, plate),
        "rect_px": [(camera.width_px - wide) / 2, (camera.height_px - high) / 2, wide, high],
    }  # fmt: skip


def pictures_of(context: Context, plate: Plate) -> Pictures:
    """A plate for an image plane: its files by the camera's frame, where they lie, and one of its proxies."""
    there = proxy_numbers(context, plate)
    still = proxy_of(context, plate, there[0]) if there else None
    folder = root_of(plate.root) / plate.folder
    movie = bool(plate.seen.get("movie_frames"))
    files = (
        {} if movie else {int(n) + plate.frame_offset: (folder / name).as_posix() for n, name in plate.files.items()}
    )
    return Pictures(plate.name, dict(sorted(files.items())), still or b"")
