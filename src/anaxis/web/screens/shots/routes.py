"""Shots: the show's shots with, for each camera, its state and its worst deviation."""

from __future__ import annotations

from math import log10
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import APIRouter, Form, Query, Request, Response
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
from anaxis.web.forms import PageForm, whole_days
from anaxis.web.pages import HERE, Store, page

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


class ShotsQuery(PageForm):
    """Which cameras of a show are listed, and in which order."""

    show: int | None = None
    q: str = ""
    state: str = ""
    findings: bool = False
    behind: bool = False
    package: str = ""
    who: str = ""
    days: float | None = None
    sort: str = "shot"
    at: int = 0

    @property
    def filter(self) -> ShotFilter:
        state, sort = self.state if self.state in STATES else "", self.sort if self.sort in SORTS else "shot"
        return ShotFilter(
            self.q.strip(),
            state,
            self.findings,
            self.behind,
            self.package,
            self.who,
            whole_days(self.days),
            sort,
            self.at,
        )


@router.get("/")
def shots(request: Request, store: Store, query: Annotated[ShotsQuery, Query()]) -> Any:
    """A show's cameras by shot: the show worked in last, or the one asked for."""
    shown, asked = shown_show(store, query.show), query.filter
    if shown is None:
        return page(request, "shots/index.html", show=None, samples=SAMPLES)
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
        raise BadInput(f"'{name}' is not a sample: choose one of {', '.join(SAMPLES)}.")
    source = take_in_bytes(store, request.app.state.parsers, name, (_SAMPLES / name).read_bytes())
    return RedirectResponse(f"/take-in/{source.id}", status_code=303)


class ExpectForm(PageForm):
    """What the edit expects of a shot, and what the page showed of it (``base``)."""

    first_frame: float | None = None
    last_frame: float | None = None
    rate: str = ""
    camera: int | None = None
    to: str = ""
    base: str = ""


@router.post("/shots/{shot_id}/expected")
def expect(store: Store, shot_id: int, form: Annotated[ExpectForm, Form()]) -> Any:
    """What the edit expects of a shot; its cameras are held against it from now on."""
    parsed = parse_rate(form.rate) if form.rate else None
    shot = get_shot(store, shot_id)
    require_base(store, shot, form.base, "first_frame", "last_frame", "rate")
    expect_of_shot(store, shot, form.first_frame, form.last_frame, parsed)
    target = f"/cameras/{form.camera}?station=time&to={form.to}" if form.camera else "/"
    return RedirectResponse(target, status_code=303)


@router.get("/schema/track.json")
def schema() -> dict[str, Any]:
    """The published JSON Schema of track documents."""
    return track_schema()
