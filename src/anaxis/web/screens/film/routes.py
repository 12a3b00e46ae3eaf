"""Films: what a movie of a shot shows, films that were made, and a reel of a show."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse
from pydantic import Field

from anaxis.app.deliveries.films import KINDS, FilmOrder, Kind, ask_for_film, films_of
from anaxis.app.deliveries.returned import returns_of
from anaxis.app.derived.join import cameras_of
from anaxis.app.people.views import choose_guides, guides_of
from anaxis.app.plates.plates import plates_of
from anaxis.core.camera.guides import GUIDES, MASKS, Guides, mask_of
from anaxis.core.errors import BadInput
from anaxis.library.film import FilmOptions, Layout, film_size
from anaxis.library.film_frame import Style
from anaxis.queue.jobs import OPEN
from anaxis.store.queries import get_show, get_version, picture_of_version
from anaxis.web.access import needs
from anaxis.web.forms import PageForm, StationForm
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, page

router = APIRouter(dependencies=[needs()])


class GuideFields(PageForm):
    """Guides as a form chooses them: a mask from the list, or an aspect as it is typed."""

    guides: list[str] = Field(default_factory=list)
    mask: str = ""
    mask_typed: str = ""

    def chosen(self) -> Guides:
        """Raises BadInput."""
        return Guides(tuple(self.guides), mask_of(self.mask_typed or self.mask))


class FilmForm(StationForm, GuideFields):
    """A film of a camera."""

    width_px: int | None = None
    style: Style = "shaded"
    layout: Layout = "over"
    magnify: float = 1.0
    burn_in: bool = False
    kind: Kind = "mp4"
    against: str = ""
    plate: int | None = None
    frame: float | None = None


@router.get("/cameras/{camera_id}/film")
def form(request: Request, store: Store, camera_id: int, version: int | None = None, to: str = "") -> Any:
    """What a film shows, and the films of this camera."""
    kept = get_version(store, camera_id, version)
    facts = kept.facts
    frames = round(facts["last_frame"] - facts["first_frame"]) + 1
    return page(
        request, "film/index.html", version=kept, camera=kept.camera, shot=kept.camera.shot, to=to, films=films_of(store, kept), open_states=OPEN,
        returns=returns_of(store, kept), plates=[p for p in plates_of(store, kept.camera.shot) if p.kind != "equirectangular"], kinds=KINDS,
        size=film_size(picture_of_version(kept).image, None), frames=frames, **guide_context(store),
    )  # fmt: skip


def guide_context(store: Store) -> dict[str, Any]:
    """What the choice of guides needs on a page."""
    held = guides_of(store)
    usual = next((text for text, aspect in MASKS.items() if aspect == held.mask), "")
    typed = "" if held.mask is None or usual else f"{held.mask:g}"
    return {"guides": GUIDES, "masks": MASKS, "chosen_guides": held, "chosen_mask": usual, "typed_mask": typed}


@router.post("/cameras/{camera_id}/film")
def ordered(request: Request, store: Store, camera_id: int, form: Annotated[FilmForm, Form()]) -> Any:
    """A film as work of its own; its guides are those of the person from now on."""
    kept = get_version(store, camera_id, form.version)
    guides = choose_guides(store, form.chosen())
    options = FilmOptions(form.width_px, form.style, guides, form.burn_in, form.layout, form.magnify)
    what, _, number = form.against.partition("-")
    if form.against and not (what in ("delivery", "return") and number.isdigit()):
        raise BadInput("Choose the camera to compare from the list.")
    order = FilmOrder(
        [kept], options, form.kind, int(number) if what == "delivery" else None, int(number) if what == "return" else None, form.plate, form.frame
    )  # fmt: skip
    job = ask_for_film(store, order)
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{job.id}", status_code=303)


@router.post("/shows/{show_id}/reel")
def reel(request: Request, store: Store, show_id: int) -> Any:
    """All shots of a show one after the other, by name, the first camera of each; with the person's own guides."""
    show = get_show(store, show_id)
    by_shot: dict[int, Any] = {}
    for version in cameras_of(store, show):
        by_shot.setdefault(version.camera.shot_id, version)
    if not by_shot:
        raise BadInput("This show has no camera yet: take in one first.")
    versions = sorted(by_shot.values(), key=lambda v: v.camera.shot.name)
    job = ask_for_film(store, FilmOrder(versions, FilmOptions(guides=guides_of(store))))
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{job.id}", status_code=303)


@router.get("/shows/{show_id}/derive")
def from_show(request: Request, store: Store, show_id: int) -> Any:
    """The cameras of a show that others can be made from."""
    show = get_show(store, show_id)
    versions = [v for v in cameras_of(store, show) if v.derivation is None]
    return page(request, "derived/show/index.html", show=show, versions=versions)


class GuidesForm(GuideFields):
    """The choice of guides on a page that shows pictures; ``back`` is that page."""

    back: str = "/"


@router.post("/guides")
def guides(store: Store, form: Annotated[GuidesForm, Form()]) -> Any:
    """The person's guides, on every page and film from now on."""
    choose_guides(store, form.chosen())
    own = form.back if form.back.startswith("/") and not form.back.startswith("//") and "\\" not in form.back else "/"
    return RedirectResponse(own, status_code=303)
