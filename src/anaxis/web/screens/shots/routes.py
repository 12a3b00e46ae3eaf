"""Shots: the show's shots with, for each camera, its state and its worst deviation."""

from __future__ import annotations

from math import log10
from typing import Annotated, Any, Literal, NamedTuple
from urllib.parse import urlencode

from fastapi import APIRouter, Form, Query, Request, Response
from fastapi.responses import RedirectResponse
from pydantic import Field

from anaxis.app.cameras.take_in import take_in_bytes
from anaxis.app.deliveries.films import FilmOrder, ask_for_film
from anaxis.app.deliveries.orders import Order, fulfil
from anaxis.app.form_base import require_base
from anaxis.app.people.views import ShotsView, choose_shots_view, guides_of, shots_view_of, tour_state
from anaxis.app.roles import Role
from anaxis.app.shows.batch import archive_cameras, ask_for_recipe, cameras_ticked, move_shots_of, said_of
from anaxis.app.shows.expected import expect as expect_of_shot
from anaxis.app.shows.shots import PAGE, SORTS, STATES, ShotFilter, asked_of, away, listed, shown_show, shows_of
from anaxis.app.webhooks.hooks import paused_of_actor
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate
from anaxis.delivery.options import USUAL as USUAL_OPTIONS
from anaxis.formats import WRITTEN
from anaxis.formats.track_json.document import track_schema
from anaxis.library.film import FilmOptions
from anaxis.store.models import EXACT_PX, Camera, Show
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import get_shot, get_show, get_version, picture_of_version, saved_recipes, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.axes import axes_svg
from anaxis.web.drawings.thumbnail import thumbnail
from anaxis.web.forms import PageForm, whole_days
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import HERE, Store, page, say_next

router = APIRouter(dependencies=[needs()])
# The one scale of deviations: decades of a pixel, from the first to the last.
_DECADES = (-5, 2)
SAMPLES = {
    "TW_010_camera_v001.usdc": "a crane over the sluice gate: nothing wrong with it",
    "TW_040_camera_v001.usdc": "a hand-held walk whose lens is 100 times too large",
}
_SAMPLES = HERE / "samples"


class Column(NamedTuple):
    """A column of the list: its heading, and what it is sorted by; "" for one that is not."""

    heading: str
    sort: str = ""
    numbers: bool = False


# Beside shot and camera, which every list has.
COLUMNS = {
    "picture": Column("Through the lens"),
    "state": Column("State", "state"),
    "worst": Column("Worst deviation, px", "worst", True),
    "at": Column("At frame", "", True),
    "packages": Column("Delivered to"),
    "range": Column("Frames", "frames", True),
    "rate": Column("Rate", "rate", True),
    "findings": Column("Findings", "findings"),
    "changed": Column("Changed", "newest"),
    "by": Column("By"),
}
USUAL = ("picture", "state", "worst", "at", "packages", "range", "rate", "findings")


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
    outdated: bool = False
    package: str = ""
    who: str = ""
    days: float | None = None
    sort: str = "shot"
    at: int = 0

    @property
    def filter(self) -> ShotFilter:
        state = self.state if self.state in STATES else ""
        sort = self.sort if self.sort.removeprefix("-") in SORTS else "shot"
        return ShotFilter(
            self.q.strip(),
            state,
            self.findings,
            self.outdated,
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
    kept = {k: v for k, v in request.query_params.items() if k not in ("at", "sort") and v}
    return page(
        request, "shots/index.html", show=shown, shows=shows_of(store), found=listed(store, shown, asked), asked=asked, step=PAGE, view=shots_view_of(store, tuple(COLUMNS), USUAL), columns=COLUMNS,
        states=STATES, packages=packages, people=people, kept=urlencode(kept), ticks=ticks, exact=along_scale(EXACT_PX), along=along_scale, paused=paused_of_actor(store),
        away=away(store, shown), samples=SAMPLES, axes=axes_svg, offer_tour=not tour_state(store), recipes=saved_recipes(store), all_packages=all_packages(store), formats=WRITTEN,
    )  # fmt: skip


class ViewForm(PageForm):
    """How the list of shots is seen; ``back`` is the list that it was chosen on."""

    dense: bool = False
    column: list[str] = Field(default_factory=list)
    back: str = ""


@router.post("/views/shots", dependencies=[needs(Role.VIEWER, Role.VIEWER)])
def choose_view(store: Store, form: Annotated[ViewForm, Form()]) -> Any:
    choose_shots_view(store, ShotsView(form.dense, tuple(c for c in COLUMNS if c in form.column)))
    return RedirectResponse(f"/?{form.back}", status_code=303)


class BatchForm(PageForm):
    """What is done with the cameras that are ticked."""

    camera: list[int] = Field(default_factory=list)
    action: Literal["recipe", "deliver", "film", "move", "archive"]
    recipe: str = ""
    package: str = ""
    format_key: str = "usd"
    to_show: int | None = None
    back: str = ""


@router.post("/shows/{show_id}/cameras")
def do_with_ticked(request: Request, store: Store, show_id: int, form: Annotated[BatchForm, Form()]) -> Any:
    """A recipe, a delivery, a film, another show or the archive, for the cameras that are ticked."""
    show = get_show(store, show_id)
    cameras = cameras_ticked(store, show, form.camera)
    at, said = _done_with(store, show, cameras, form)
    ensure_worker(request, form.action in ("recipe", "deliver", "film"))
    answer = RedirectResponse(at, status_code=303)
    if said:
        say_next(answer, said)
    return answer


def _done_with(store: Store, show: Show, cameras: list[Camera], form: BatchForm) -> tuple[str, str]:
    """The page to go to, and a sentence for it. Raises BadInput."""
    versions = [c.head for c in cameras]
    if form.action == "recipe":
        if not form.recipe:
            raise BadInput("Choose the recipe to apply.")
        return f"/jobs/{ask_for_recipe(store, cameras, form.recipe).id}", ""
    if form.action == "deliver":
        done = fulfil(store, Order(versions, [get_package(store, form.package)], [form.format_key], USUAL_OPTIONS, ""))
        parts = {"d": [d.id for d in done.deliveries], "j": [j.id for j in done.jobs]}
        query = "&".join(f"{k}={','.join(map(str, v))}" for k, v in parts.items() if v)
        said = " ".join(["Not written:", *done.refused]) if done.refused else ""
        return f"/handed-over?camera={cameras[0].id}&{query}", said
    if form.action == "film":
        return f"/jobs/{ask_for_film(store, FilmOrder(versions, FilmOptions(guides=guides_of(store)))).id}", ""
    back = f"/?{form.back}" if form.back else f"/?show={show.id}"
    if form.action == "archive":
        return back, said_of(archive_cameras(store, cameras), "camera", "archived")
    if form.to_show is None or form.to_show == show.id:
        raise BadInput("Choose another show to move the shots to.")
    to = get_show(store, form.to_show)
    return f"/?show={to.id}", said_of(move_shots_of(store, cameras, to), "shot", f"moved to {to.name}")


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
