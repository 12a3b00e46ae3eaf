"""Shots: the show's shots with, for each camera, its state and its worst deviation."""

from __future__ import annotations

from math import log10
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import APIRouter, Form, Request, Response
from fastapi.responses import RedirectResponse

from anaxis.app.cameras.take_in import take_in_bytes
from anaxis.app.form_base import require_base
from anaxis.app.shows.expected import expect as expect_of_shot
from anaxis.app.shows.shots import PAGE, SORTS, STATES, ShotFilter, asked_of, away, listed, shown_show, shows_of
from anaxis.app.webhooks.hooks import paused_of_actor
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate
from anaxis.formats.track_json.document import track_schema
from anaxis.store.models import EXACT_PX
from anaxis.store.queries import get_shot, get_version, picture_of_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.axes import axes_svg
from anaxis.web.drawings.thumbnail import thumbnail
from anaxis.web.pages import HERE, Store, number_or_none, page

router = APIRouter(dependencies=[needs()])
# The one scale of deviations: decades of a pixel, from the first to the last.
_DECADES = (-5, 2)
SAMPLES = {
    "TW_010_camera_v001.usdc": "a crane over the sluice gate: nothing wrong with it",
    "TW_040_camera_v001.usdc": "a hand-held walk whose lens is 100 times too large",
}
_SAMPLES = HERE / "samples"


def along_scale(deviation_px: float) -> float:
    """Where a deviation lies on the scale, 0 to 1."""
    low, high = _DECADES
    return min(1.0, max(0.0, (log10(max(deviation_px, 1e-12)) - low) / (high - low)))


@router.get("/")
def shots(
    request: Request, store: Store, show: int | None = None, q: str = "", state: str = "", findings: str = "", behind: str = "", package: str = "",
    who: str = "", days: str = "", sort: str = "shot", at: int = 0,
) -> Any:  # fmt: skip
    """A show's cameras by shot: the show worked in last, or the one asked for."""
    shown = shown_show(store, show)
    if shown is None:
        return page(request, "shots/index.html", show=None, samples=SAMPLES)
    typed = number_or_none(days, "the days since a change")
    asked = ShotFilter(
        q.strip(), state if state in STATES else "", bool(findings), bool(behind), package, who, None if typed is None else max(0, min(int(typed), 36_500)),
        sort if sort in SORTS else "shot", at,
    )  # fmt: skip
    ticks = [(f"{10.0**d:g}", along_scale(10.0**d)) for d in (-4, -2, 0)]
    packages, people = asked_of(store, shown)
    kept = {k: v for k, v in request.query_params.items() if k != "at" and v}
    return page(
        request, "shots/index.html", show=shown, shows=shows_of(store), found=listed(store, shown, asked), asked=asked, step=PAGE, sorts=SORTS,
        states=STATES, packages=packages, people=people, kept=urlencode(kept), ticks=ticks, exact=along_scale(EXACT_PX), along=along_scale, paused=paused_of_actor(store),
        away=away(store, shown), samples=SAMPLES, axes=axes_svg,
    )  # fmt: skip


@router.get("/cameras/{camera_id}/thumbnail.svg")
def thumbnail_file(store: Store, camera_id: int, version: int) -> Response:
    """What a version's camera sees in the middle of its shot; it never changes."""
    kept = get_version(store, camera_id, version)
    drawn = thumbnail(*track_of(kept), picture_of_version(kept))
    cached = {"Cache-Control": "private, max-age=86400, immutable"}
    return Response(drawn, media_type="image/svg+xml", headers=cached)


@router.post("/samples")
def take_sample(request: Request, store: Store, name: Annotated[str, Form()]) -> Any:
    """A file of the demo taken in, to try with."""
    if name not in SAMPLES:
        raise BadInput(f"'{name}' is no sample: choose one of {', '.join(SAMPLES)}.")
    source = take_in_bytes(store, request.app.state.parsers, name, (_SAMPLES / name).read_bytes())
    return RedirectResponse(f"/take-in/{source.id}", status_code=303)


@router.post("/shots/{shot_id}/expected")
def expect(
    store: Store,
    shot_id: int,
    first_frame: Annotated[str, Form()] = "",
    last_frame: Annotated[str, Form()] = "",
    rate: Annotated[str, Form()] = "",
    camera: Annotated[int | None, Form()] = None,
    to: Annotated[str, Form()] = "",
    base: Annotated[str, Form()] = "",
) -> Any:
    """What the edit expects of a shot; its cameras are held against it from now on."""
    first, last = number_or_none(first_frame, "the first frame"), number_or_none(last_frame, "the last frame")
    parsed = parse_rate(rate) if rate.strip() else None
    shot = get_shot(store, shot_id)
    require_base(store, shot, base, "first_frame", "last_frame", "rate")
    expect_of_shot(store, shot, first, last, parsed)
    target = f"/cameras/{camera}?station=time&to={to}" if camera else "/"
    return RedirectResponse(target, status_code=303)


@router.get("/schema/track.json")
def schema() -> dict[str, Any]:
    """The published JSON Schema of track documents."""
    return track_schema()
