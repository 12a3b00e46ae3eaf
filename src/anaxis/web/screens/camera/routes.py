"""The camera's page: the answer, the line of stations, the drawings, and one station's panel open."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Annotated, Any, TypeVar

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import RedirectResponse, Response

from anaxis.app.cameras.allowed_warnings import allow_warnings, warn_again
from anaxis.app.cameras.edit import correct_picture, next_of
from anaxis.app.cameras.landmarks import THE_FILE, axes_of, file_unit, landmark_rows
from anaxis.app.cameras.lens import focus_of_file
from anaxis.app.cameras.presence import others_at
from anaxis.app.cameras.recipe_change import with_levels_still
from anaxis.app.cameras.scene_report import file_camera
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import furthest_off, has_finer, newest_deliveries
from anaxis.app.deliveries.hand_over import as_it_would_go
from anaxis.app.deliveries.returned import returns_of
from anaxis.app.deliveries.screenshots import screenshots_of
from anaxis.app.deliveries.stills import stills_of
from anaxis.app.derived.derive import outdated_inputs
from anaxis.app.derived.source_ranges import shown_of
from anaxis.app.exchange.clients import packages_there
from anaxis.app.people.views import choose_circle, circle_of, guides_of
from anaxis.app.plates.plates import plates_of
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.guides import shapes_of
from anaxis.core.camera.lens import FIT_WORDS, FITS, parse_image, require_fit
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.recipe.operations import kind_of
from anaxis.core.scene.landmarks import NODE_NAME_RULE, Landmarks, node_name
from anaxis.formats import SET_SUFFIXES, WRITTEN
from anaxis.formats.track_json.document import convention_from_document
from anaxis.library.scene_report import FileCamera, camera_after, chain_after, levels_of
from anaxis.packages import SHIPPED_KEYS
from anaxis.packages.model import Profile
from anaxis.packages.sheet import package_offsets, sheet_of
from anaxis.store.models import Version
from anaxis.store.packages import all_packages
from anaxis.store.queries import (
    get_camera,
    get_version,
    other_cameras,
    picture_of_version,
    recipe_of,
    saved_film_backs,
    saved_recipes,
    track_of,
)
from anaxis.web.access import needs
from anaxis.web.drawings.axes import axes_svg, axis_turn
from anaxis.web.drawings.blocks import Drawing
from anaxis.web.drawings.camera import camera_drawing, levels_drawing
from anaxis.web.pages import Store, drawing_answer, drawings_of, page
from anaxis.web.screens.derived.routes import derived_context
from anaxis.web.screens.film.routes import guide_context
from anaxis.web.screens.help.tour import tour_step
from anaxis.web.screens.jobs.routes import open_work
from anaxis.web.screens.lens.distortion import distortion_context
from anaxis.web.screens.lens.routes import lens_context
from anaxis.web.screens.plates.routes import plate_context
from anaxis.web.screens.recipe.routes import ADDABLE
from anaxis.web.screens.time.routes import time_context
from anaxis.web.stations import stations_of

T = TypeVar("T")
router = APIRouter(prefix="/cameras", dependencies=[needs()])
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
    stations = stations_of(store, kept)
    chosen = station if station in {s.key for s in stations} else ("deliver" if kept.deliveries else "take-in")
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
    stations, profile = stations_of(store, kept), _profile(store, to, kept)
    if station not in {s.key for s in stations}:
        raise BadInput(f"There is no station '{station}'.")
    return page(
        request,
        "camera/panel.html",
        **_context(store, kept, profile, station, THE_FILE, [], there),
        stations=stations,
        open_station=station,
        swapped=True,
    )


@router.get("/{camera_id}/drawing")
def drawing(
    request: Request,
    store: Store,
    camera_id: int,
    version: int,
    to: str = "",
    there: str = "",
    off: Annotated[list[str] | None, Query()] = None,
    circle: float | None = None,
    block: int | None = None,
) -> Response:
    """The drawings' data; with ``off``, as the camera would go with those levels held still; a long shot's by ``block``."""
    kept = get_version(store, camera_id, version)
    profile, first_there = _profile(store, to, kept), number_or_none(there, "a first frame")

    def make() -> Drawing:
        held_still = _worked_out(store, camera_after, kept, off) if off else track_of(kept)
        return camera_drawing(
            *held_still,
            picture_of_version(kept),
            convention_from_document(kept.facts["convention"]),
            profile,
            first_there,
            shown_of(store, kept) if not off else None,
            circle,
            None if off else focus_of_file(kept, held_still[0]),
        )

    key = ("camera", kept.id, profile.fingerprint, first_there, *(off or ()), circle)
    return drawing_answer(drawings_of(request).get(key, make).part(block))


@router.get("/{camera_id}/other-cameras")
def cameras_to_add(
    request: Request,
    store: Store,
    camera_id: int,
    words: Annotated[str, Query(max_length=120)] = "",
    more_cameras: Annotated[list[int] | None, Query(max_length=500)] = None,
) -> Any:
    """Cameras of the show to be delivered along: those that are ticked, and some whose names have the words."""
    camera = get_version(store, camera_id).camera
    found = other_cameras(store, camera, words, more_cameras or ())
    return page(request, "camera/other_cameras.html", other_cameras=found, shot=camera.shot)


@router.post("/{camera_id}/circle")
def choose(
    store: Store, camera_id: int, circle_mm: Annotated[str, Form()] = "", back: Annotated[str, Form()] = ""
) -> Any:
    """The circle of confusion by which the person sees what is sharp; empty for the usual one."""
    choose_circle(store, number_or_none(circle_mm, "a circle of confusion"))
    here = f"/cameras/{camera_id}"
    return RedirectResponse(back if back == here or back.startswith(f"{here}?") else here, status_code=303)


@router.get("/{camera_id}/levels")
def levels(store: Store, camera_id: int, version: int) -> Response:
    """What each level of the tree adds to the motion on every frame."""
    return drawing_answer(levels_drawing(*_worked_out(store, levels_of, get_version(store, camera_id, version))))


def _worked_out(store: Context, function: Callable[[FileCamera], T], version: Version, off: Sequence[str] = ()) -> T:
    """What a function has of the version's recipe done again, with some levels held still as at the first frame."""
    camera = file_camera(
        store, version.source_file, version.camera_path, with_levels_still(recipe_of(version), off[:100])
    )
    return store.calculators.run(version.source_file.name, function, camera)


@router.post("/{camera_id}/picture")
def correct(
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    resolution: Annotated[str, Form()],
    source_fit: Annotated[str, Form()],
    pixel_aspect: Annotated[float, Form()] = 1.0,
) -> Any:
    """A guess corrected where it stands: the same track with another picture, as a new version."""
    require_fit(source_fit)
    image = parse_image(resolution, pixel_aspect)
    made = correct_picture(store, get_version(store, camera_id, version), image, source_fit)
    return RedirectResponse(f"/cameras/{camera_id}?version={made.number}&station=lens", status_code=303)


@router.post("/{camera_id}/allowed")
def allow(
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    code: Annotated[str, Form()] = "",
    again: Annotated[str, Form()] = "",
) -> Any:
    """A warning that somebody knows of is delivered as it is; or it counts again."""
    kept = get_version(store, camera_id, version)
    if again:
        warn_again(store, kept, again)
    else:
        allow_warnings(store, kept, [code])
    return RedirectResponse(f"/cameras/{camera_id}?version={version}&station=take-in", status_code=303)


def _profile(store: Context, key: str, version: Version) -> Profile:
    """The package asked for, else the one last delivered to, else the first shipped one."""
    packages = all_packages(store)
    if key in packages:
        return packages[key]
    last = version.deliveries[0].profile["key"] if version.deliveries else ""
    return packages.get(last, packages[SHIPPED_KEYS[0]])


def _station_context(
    store: Context, version: Version, station: str, track: Track, landmarks: Landmarks, axes: str, to: str,
    theirs_first: float,
) -> dict[str, Any]:  # fmt: skip
    """What only one station's panel shows."""
    if station == "place":
        convention, unit = axes_of(store, version, axes)
        return {
            "axes": axes,
            "mark_unit": unit,
            "mark_axes": convention,
            "mark_rows": landmark_rows(landmarks, convention),
            "set_suffixes": SET_SUFFIXES,
        }
    if station == "lens":
        return lens_context(version, track, saved_film_backs(store)) | distortion_context(store, version, track, to)
    if station == "time":
        return time_context(version, track)
    if station == "plate":
        return plate_context(store, version)
    if station == "take-in":
        return derived_context(store, version, theirs_first)
    if station != "clean":
        return {}
    chain = list(_worked_out(store, chain_after, version).nodes)
    recipe = [(i, o, kind_of(o.code)) for i, o in enumerate(recipe_of(version))]
    return {
        "chain": chain[::-1],
        "recipe": recipe,
        "addable": ADDABLE,
        "saved_recipes": saved_recipes(store),
        "can_undo": version.parent_id is not None,
        "redo": next_of(store, version),
    }


def _context(
    store: Context, version: Version, profile: Profile, station: str, axes: str, off: list[str], there: str
) -> dict[str, Any]:
    source = convention_from_document(version.facts["convention"])
    track, landmarks, segments = track_of(version)
    outgoing, first = as_it_would_go(version, profile, number_or_none(there, "a first frame"))
    newest = newest_deliveries(version)
    sheet = sheet_of(outgoing, profile) if station in ("lens", "deliver") else None
    return {
        "sheet": sheet,
        "offset_unit": package_offsets(outgoing.track, profile)[2],
        "other_cameras": other_cameras(store, version.camera) if station == "deliver" else None,
        "connected": packages_there(store, version.camera.shot.show) if station == "deliver" else [],
        "node": node_name(version.camera.name, set()),
        "node_rule": NODE_NAME_RULE,
        "packages": all_packages(store),
        "returns": returns_of(store, version) if station == "prove" else [],
        "stills": stills_of(store, version) if station == "prove" else [],
        "screenshots": screenshots_of(store, version) if station == "prove" else [],
        "open_work": open_work(store, version) if station == "prove" else [],
        "outgoing": outgoing,
        "version": version,
        "camera": version.camera,
        "shot": version.camera.shot,
        "profile": profile,
        "track": track,
        "landmarks": landmarks.shown(),
        "segments": len(segments),
        "findings": version.noticed,
        "late": outdated_inputs(store, version) if version.derivation and version.id == version.camera.head.id else [],
        "picture": picture_of_version(version),
        "plates": [p for p in plates_of(store, version.camera.shot) if p.kind != "equirectangular"],
        "fits": FITS,
        "fit_words": FIT_WORDS,
        "formats": WRITTEN,
        "source": source,
        "source_axes": axes_svg(source, "The file"),
        "target_axes": axes_svg(profile.convention, profile.label),
        "turn": axis_turn(source, profile.convention),
        "notes": outgoing.notes,
        "worst": furthest_off(newest),
        "source_unit": file_unit(source),
        "guide_shapes": [
            s._asdict()
            for s in shapes_of(
                guides_of(store), picture_of_version(version).image, track, picture_of_version(version).fit
            )
        ],
        **guide_context(store),
        "circle": circle_of(store),
        "back": f"/cameras/{version.camera_id}?version={version.number}&station={station}&to={profile.key}",
        "off": off,
        "tour": tour_step(store, station),
        "there": first,
        "there_asked": there != "",
        "has_finer": has_finer(version),
        **_station_context(
            store, version, station, track, landmarks, axes, profile.key, float(outgoing.track.frames[0])
        ),
    }


@router.get("/{camera_id}/others")
def others(request: Request, store: Store, camera_id: int) -> Any:
    """That somebody has the page open, and who else has."""
    return page(
        request, "camera/others.html", camera_id=camera_id, others=others_at(store, get_camera(store, camera_id))
    )
