"""The camera's page: the answer, the line of stations, the drawings, and one station's panel open."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.core.lens import FIT_WORDS, FITS, parse_image, require_fit
from anaxis.core.timing import format_frame, parse_rate, rate_label
from anaxis.flow import deliver, prepare
from anaxis.formats import FORMATS
from anaxis.formats.track_json import convention_from_document
from anaxis.profiles import SHIPPED_KEYS, shipped_profiles
from anaxis.profiles.model import Profile, profile_from_text
from anaxis.store.models import Delivery, Version
from anaxis.store.queries import (
    correct_picture,
    findings_of,
    get_version,
    keep_delivery,
    newest_deliveries,
    picture_of_version,
    track_of,
)
from anaxis.web.axes_drawing import axes_svg, axis_turn
from anaxis.web.drawings import camera_bundle
from anaxis.web.pages import Store, page, pixels

router = APIRouter(prefix="/cameras")
_MAX_PROFILE_BYTES = 100_000


@dataclass(frozen=True)
class Station:
    """One step of the job: its state ("read", "guess", "warning", "open", "done", "off") and key figure."""

    key: str
    label: str
    state: str
    figure: str


@router.get("/{camera_id}")
def camera(
    request: Request, store: Store, camera_id: int,
    version: int | None = None, to: str = "", station: str = "",
) -> Any:  # fmt: skip
    kept = get_version(store, camera_id, version)
    profile = _profile(to, kept)
    stations = stations_of(kept)
    chosen = (
        station if station in {s.key for s in stations} else ("deliver" if kept.deliveries else "take-in")
    )
    return page(
        request,
        "camera/index.html",
        **_context(kept, profile, chosen),
        stations=stations,
        open_station=chosen,
    )


@router.get("/{camera_id}/panel/{station}")
def panel(request: Request, store: Store, camera_id: int, station: str, version: int, to: str = "") -> Any:
    kept = get_version(store, camera_id, version)
    stations = stations_of(kept)
    if station not in {s.key for s in stations}:
        raise BadInput(f"There is no station '{station}'.")
    return page(
        request, "camera/panel.html", **_context(kept, _profile(to, kept), station),
        stations=stations, open_station=station, swapped=True,
    )  # fmt: skip


@router.get("/{camera_id}/drawing")
def drawing(store: Store, camera_id: int, version: int, to: str = "") -> Response:
    kept = get_version(store, camera_id, version)
    track, landmarks, segments = track_of(kept)
    data = camera_bundle(
        track,
        landmarks,
        segments,
        picture_of_version(kept),
        convention_from_document(kept.facts["convention"]),
        _profile(to, kept),
    )
    return Response(
        data, media_type="application/octet-stream", headers={"Cache-Control": "private, max-age=600"}
    )


@router.post("/{camera_id}/deliver")
def make_delivery(
    request: Request, store: Store, camera_id: int,
    version: Annotated[int, Form()], to: Annotated[str, Form()], format_key: Annotated[str, Form()],
    own_profile: Annotated[UploadFile | None, File()] = None,
) -> Any:  # fmt: skip
    kept = get_version(store, camera_id, version)
    if own_profile is not None and own_profile.filename:
        profile = profile_from_text(own_profile.file.read(_MAX_PROFILE_BYTES), own_profile.filename)
    elif to in shipped_profiles():
        profile = shipped_profiles()[to]
    else:
        raise BadInput(f"'{to}' is no package profile: choose one of {', '.join(SHIPPED_KEYS)}.")
    delivery = deliver_version(store, kept, profile, format_key)
    return RedirectResponse(f"/deliveries/{delivery.id}", status_code=303)


def deliver_version(store: Session, version: Version, profile: Profile, format_key: str) -> Delivery:
    """Write a version for a package, prove it, and keep files and proof together."""
    track, landmarks, _ = track_of(version)
    with TemporaryDirectory(prefix="anaxis-delivery-") as folder:
        done = deliver(track, landmarks, picture_of_version(version), profile, format_key, Path(folder))
        return keep_delivery(store, version, profile, format_key, done)


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


def _profile(key: str, version: Version) -> Profile:
    """The package asked for, else the one last delivered to, else the first shipped one."""
    shipped = shipped_profiles()
    if key in shipped:
        return shipped[key]
    last = version.deliveries[0].profile["key"] if version.deliveries else ""
    return shipped.get(last, shipped[SHIPPED_KEYS[0]])


def _context(version: Version, profile: Profile, station: str) -> dict[str, Any]:
    source = convention_from_document(version.facts["convention"])
    track, landmarks, segments = track_of(version)
    outgoing = prepare(track, landmarks, picture_of_version(version), profile)
    newest = newest_deliveries(version)
    return {
        "version": version,
        "camera": version.camera,
        "shot": version.camera.shot,
        "profile": profile,
        "track": track,
        "landmarks": landmarks,
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
        "worst": max(newest, key=lambda d: d.max_px, default=None),
        "source_unit": {0.01: "cm", 1.0: "m", 0.001: "mm"}.get(source.metres_per_unit, "units"),
    }


def stations_of(version: Version) -> list[Station]:
    """The steps of the job, in the order people work, each with its state and key figure."""
    facts = version.facts
    count = round(facts["last_frame"] - facts["first_frame"]) + 1
    rate = rate_label(parse_rate(facts["rate"]))
    warned = any(f["severity"] == "warning" for f in version.findings)
    moving = sum(p["moves"] for p in facts["parents"])
    stray = abs(facts["scale"][0] - 1) > 1e-6 or abs(facts["scale"][1] - 1) > 1e-6
    guess = version.fit_guessed or version.image_guessed
    newest = newest_deliveries(version)
    worst = max((d.max_px for d in newest), default=None)
    film = facts["film_mm"]
    span = f"{format_frame(facts['first_frame'])}–{format_frame(facts['last_frame'])}"
    return [
        Station("take-in", "Take in", "warning" if warned else "done", f"{count} f @ {rate}"),
        Station("clean", "Clean", "warning" if stray else "done", f"{moving} parent{'s' * (moving != 1)} baked"),
        Station("lens", "Lens", "guess" if guess else "done", f"{film[0]:.2f} × {film[1]:.2f} mm"),
        Station("time", "Time", "done", span),
        Station("deliver", "Deliver", "done" if newest else "open", f"{len(newest)} package{'s' * (len(newest) != 1)}"),
        Station(
            "prove", "Prove",
            "open" if worst is None else "done" if worst <= 0.01 else "off",
            "not proved" if worst is None else pixels(worst),
        ),
    ]  # fmt: skip
