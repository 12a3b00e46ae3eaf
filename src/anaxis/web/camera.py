"""The camera's page: the answer, the line of stations, the drawings, and one station's panel open."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Query, Request, UploadFile
from fastapi.responses import RedirectResponse, Response
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.core.landmarks import Landmarks
from anaxis.core.lens import FIT_WORDS, FITS, parse_image, require_fit
from anaxis.core.recipe import Operation, Work, inserted, kind_of, recipe_document, replay, replay_tree
from anaxis.core.track import Track
from anaxis.formats import FORMATS, SET_SUFFIXES
from anaxis.formats.scene_archive import scene_from_bytes
from anaxis.formats.track_json import convention_from_document
from anaxis.handover import Source, handover_zip
from anaxis.profiles import SHIPPED_KEYS
from anaxis.profiles.model import Profile, profile_from_text
from anaxis.profiles.sheet import sheet_of
from anaxis.sending import Options, deliver, file_stem, prepare
from anaxis.store.deliveries import deliver_version, furthest_off, newest_deliveries
from anaxis.store.models import Version
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import (
    findings_of,
    get_version,
    picture_of_version,
    recipe_of,
    saved_film_backs,
    saved_recipes,
    set_finder,
    track_of,
)
from anaxis.store.returns import returns_of
from anaxis.store.versions import correct_picture, next_of
from anaxis.web.axes_drawing import axes_svg, axis_turn
from anaxis.web.drawings import camera_bundle, levels_bundle
from anaxis.web.jobs import open_work, start_work
from anaxis.web.landmarks import THE_FILE, axes_of, file_unit, rows_of
from anaxis.web.lens import lens_context
from anaxis.web.pages import Store, drawing_answer, number_or_none, page
from anaxis.web.recipe import ADDABLE
from anaxis.web.stations import stations_of
from anaxis.web.stills import stills_of
from anaxis.web.time import time_context

router = APIRouter(prefix="/cameras")
_MAX_PROFILE_BYTES = 100_000
_QUICK_FRAMES = 3000


@router.get("/{camera_id}")
def camera(
    request: Request, store: Store, camera_id: int,
    version: int | None = None, to: str = "", station: str = "", axes: str = THE_FILE, there: str = "",
    off: Annotated[list[str] | None, Query()] = None,
) -> Any:  # fmt: skip
    kept = get_version(store, camera_id, version)
    profile = _profile(store, to, kept)
    stations = stations_of(kept)
    chosen = (
        station if station in {s.key for s in stations} else ("deliver" if kept.deliveries else "take-in")
    )
    return page(
        request,
        "camera/index.html",
        **_context(store, kept, profile, chosen, axes, off or [], there),
        stations=stations,
        open_station=chosen,
    )


@router.get("/{camera_id}/panel/{station}")
def panel(
    request: Request, store: Store, camera_id: int, station: str, version: int, to: str = "", there: str = ""
) -> Any:
    kept = get_version(store, camera_id, version)
    stations, profile = stations_of(kept), _profile(store, to, kept)
    if station not in {s.key for s in stations}:
        raise BadInput(f"There is no station '{station}'.")
    return page(
        request, "camera/panel.html", **_context(store, kept, profile, station, THE_FILE, [], there),
        stations=stations, open_station=station, swapped=True,
    )  # fmt: skip


@router.get("/{camera_id}/drawing")
def drawing(
    store: Store,
    camera_id: int,
    version: int,
    to: str = "",
    there: str = "",
    off: Annotated[list[str] | None, Query()] = None,
) -> Response:
    """The drawings' data; with ``off``, as the camera would go with those levels held still."""
    kept = get_version(store, camera_id, version)
    track, landmarks, segments = track_of(kept)
    if off:
        work = _replayed(store, kept, off)
        track, landmarks, segments = work.done, work.landmarks, work.lines_m
    data = camera_bundle(
        track,
        landmarks,
        segments,
        picture_of_version(kept),
        convention_from_document(kept.facts["convention"]),
        _profile(store, to, kept),
        number_or_none(there, "a first frame"),
    )
    return drawing_answer(data)


@router.get("/{camera_id}/levels")
def levels(store: Store, camera_id: int, version: int) -> Response:
    """What each level of the tree adds to the motion on every frame."""
    work = _replayed(store, get_version(store, camera_id, version), [])
    return drawing_answer(levels_bundle(work))


def _replayed(store: Session, version: Version, off: list[str]) -> Work:
    """The version's recipe done again, with some levels held still as at the first frame."""
    recipe = recipe_of(version)
    for path in off[:100]:
        recipe = inserted(recipe, Operation("level", {"node": path, "way": "still"}))
    return replay(scene_from_bytes(version.source_file.scene), version.camera_path, recipe, set_finder(store))


@router.post("/{camera_id}/deliver")
def make_delivery(
    request: Request, store: Store, camera_id: int,
    version: Annotated[int, Form()], to: Annotated[str, Form()], format_key: Annotated[str, Form()],
    reduce_px: Annotated[str, Form()] = "", first_there: Annotated[str, Form()] = "",
    more_formats: Annotated[list[str] | None, Form()] = None, more_packages: Annotated[list[str] | None, Form()] = None,
    own_profile: Annotated[UploadFile | None, File()] = None,
) -> Any:  # fmt: skip
    """Write and prove at once, or as work of its own where that takes longer than a page should."""
    kept = get_version(store, camera_id, version)
    if own_profile is not None and own_profile.filename:
        profile = profile_from_text(own_profile.file.read(_MAX_PROFILE_BYTES), own_profile.filename)
    else:
        packages = all_packages(store)
        if to not in packages:
            raise BadInput(f"'{to}' is no package profile: choose one of {', '.join(packages)}.")
        profile = packages[to]
    options = Options(
        number_or_none(reduce_px, "pixels that fewer keys may cost"),
        number_or_none(first_there, "a first frame"),
    )
    formats = list(dict.fromkeys([format_key, *(more_formats or [])]))
    profiles = [
        profile,
        *(get_package(store, k) for k in dict.fromkeys(more_packages or []) if k != profile.key),
    ]
    if len(formats) * len(profiles) > 1:
        return _several(request, store, kept, profiles, formats, options)
    if (
        options.reduce_px is not None
        or round(kept.facts["last_frame"] - kept.facts["first_frame"]) > _QUICK_FRAMES
    ):
        params = {
            "profile": profile.model_dump(mode="json"),
            "format": format_key,
            "options": asdict(options),
        }
        return RedirectResponse(f"/jobs/{start_work(request, 'delivery', kept.id, params)}", status_code=303)
    delivery = deliver_version(store, kept, profile, format_key, options)
    return RedirectResponse(f"/deliveries/{delivery.id}", status_code=303)


def _several(
    request: Request, store: Session, version: Version, profiles: list[Profile], formats: list[str], options: Options
) -> Any:  # fmt: skip
    """One delivery for each package and format; what takes long goes into the queue, one after the other."""
    slow = (
        options.reduce_px is not None
        or len(track_of(version)[0]) * len(formats) * len(profiles) > _QUICK_FRAMES
    )
    for profile in profiles:
        for key in formats:
            if slow:
                params = {
                    "profile": profile.model_dump(mode="json"),
                    "format": key,
                    "options": asdict(options),
                }
                start_work(request, "delivery", version.id, params)
            else:
                deliver_version(store, version, profile, key, options)
    return RedirectResponse(
        f"/cameras/{version.camera_id}?version={version.number}&station=prove", status_code=303
    )


@router.get("/{camera_id}/bundle")
def bundle(store: Store, camera_id: int, version: int, to: str) -> Response:
    """The package of files for one package: every format, landmarks, set, axis check, sheet, manifest."""
    kept, profile = get_version(store, camera_id, version), get_package(store, to)
    track, landmarks, lines = track_of(kept)
    track, picture = replace(track, name=kept.camera.name), picture_of_version(kept)
    formats = [
        f.key for f in FORMATS if f.write and (track.frames[0] >= 0 or f.key not in ("gltf", "collada"))
    ]
    source = Source(
        kept.source_file.name,
        kept.source_file.sha256,
        kept.camera_path,
        recipe_document(recipe_of(kept)),
        kept.label,
    )
    with TemporaryDirectory(prefix="anaxis-bundle-") as folder:
        done = {f: deliver(track, landmarks, picture, profile, f, Path(folder)) for f in formats}
        data = handover_zip(track, landmarks, lines, picture, profile, done, source)
    name = f"{file_stem(track.name, profile.key)}.zip"
    return Response(
        data, media_type="application/zip", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@router.post("/{camera_id}/picture")
def correct(
    store: Store, camera_id: int,
    version: Annotated[int, Form()], resolution: Annotated[str, Form()], source_fit: Annotated[str, Form()],
    pixel_aspect: Annotated[float, Form()] = 1.0,
) -> Any:  # fmt: skip
    """A guess corrected where it stands: the same track with another picture, as a new version."""
    require_fit(source_fit)
    image = parse_image(resolution, pixel_aspect)
    made = correct_picture(store, get_version(store, camera_id, version), image, source_fit)
    return RedirectResponse(f"/cameras/{camera_id}?version={made.number}&station=lens", status_code=303)


def _profile(store: Session, key: str, version: Version) -> Profile:
    """The package asked for, else the one last delivered to, else the first shipped one."""
    packages = all_packages(store)
    if key in packages:
        return packages[key]
    last = version.deliveries[0].profile["key"] if version.deliveries else ""
    return packages.get(last, packages[SHIPPED_KEYS[0]])


def _station_context(
    store: Session, version: Version, station: str, track: Track, landmarks: Landmarks, axes: str
) -> dict[str, Any]:
    """What only one station's panel shows."""
    if station == "place":
        convention, unit = axes_of(store, version, axes)
        return {
            "axes": axes, "mark_unit": unit, "mark_axes": convention, "mark_rows": rows_of(landmarks, convention),
            "set_suffixes": SET_SUFFIXES,
        }  # fmt: skip
    if station == "lens":
        return lens_context(version, track, saved_film_backs(store))
    if station == "time":
        return time_context(version, track)
    if station != "clean":
        return {}
    scene = scene_from_bytes(version.source_file.scene)
    work = replay_tree(scene, version.camera_path, recipe_of(version), set_finder(store))
    chain = work.scene.chain(work.path)
    recipe = [(i, o, kind_of(o.code)) for i, o in enumerate(recipe_of(version))]
    return {
        "chain": chain[::-1], "recipe": recipe, "addable": ADDABLE, "saved_recipes": saved_recipes(store),
        "can_undo": version.parent_id is not None, "redo": next_of(store, version),
    }  # fmt: skip


def _context(
    store: Session, version: Version, profile: Profile, station: str, axes: str, off: list[str], there: str
) -> dict[str, Any]:
    source = convention_from_document(version.facts["convention"])
    track, landmarks, segments = track_of(version)
    first = number_or_none(there, "a first frame")
    if first is None and track.frames[0] < 0:  # many packages drop what lies before frame 0
        first = float(profile.time.first_frame)
    outgoing = prepare(track, landmarks, picture_of_version(version), profile, first)
    newest = newest_deliveries(version)
    sheet = sheet_of(outgoing, profile) if station in ("lens", "deliver") else None
    return {
        "sheet": sheet,
        "packages": all_packages(store),
        "returns": returns_of(store, version) if station == "prove" else [],
        "stills": stills_of(store, version) if station == "prove" else [],
        "open_work": open_work(store, version) if station == "prove" else [],
        "outgoing": outgoing,
        "version": version,
        "camera": version.camera,
        "shot": version.camera.shot,
        "profile": profile,
        "track": track,
        "landmarks": landmarks.shown(),
        "segments": len(segments),
        "findings": findings_of(version),
        "picture": picture_of_version(version),
        "fits": FITS,
        "fit_words": FIT_WORDS,
        "formats": [f for f in FORMATS if f.write],
        "source": source,
        "source_axes": axes_svg(source, "The file"),
        "target_axes": axes_svg(profile.convention, profile.label),
        "turn": axis_turn(source, profile.convention),
        "notes": outgoing.notes,
        "worst": furthest_off(newest),
        "source_unit": file_unit(source),
        "off": off,
        "there": first,
        "there_asked": there != "",
        **_station_context(store, version, station, track, landmarks, axes),
    }
