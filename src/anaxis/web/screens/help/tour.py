"""The tour: one real shot through all stations, with a sentence and one thing to do at each. It is left at any time."""

from __future__ import annotations

from functools import cache
from typing import Any, NamedTuple

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse
from markdown_it import MarkdownIt
from markupsafe import Markup

from anaxis.app.cameras.take_in import take_in_bytes
from anaxis.app.context import Context
from anaxis.app.people.views import choose_tour, tour_state
from anaxis.app.roles import Role
from anaxis.web.access import needs
from anaxis.web.pages import HERE, Store
from anaxis.web.screens.help.texts import text_of

router = APIRouter(prefix="/tour", dependencies=[needs(Role.VIEWER, Role.VIEWER)])
_FILE, _SHOW, _SHOT = "TW_040_camera_v001.usdc", "Tour", "TW_040"


class Step(NamedTuple):
    """A step of the tour: its number, the station, what it says, and the station of the next one."""

    number: int
    of_all: int
    title: str
    html: Markup
    next_station: str
    next_title: str


@cache
def _steps() -> dict[str, tuple[str, Markup]]:
    """Title and HTML of every step by its station's key, in order; "file" comes before the first station."""
    markdown = MarkdownIt("commonmark", {"html": False})
    parts = [part.partition("\n") for part in text_of("tour").split("\n## ")[1:]]
    return {title.lower().replace(" ", "-"): (title, Markup(markdown.render(body))) for title, _, body in parts}


def tour_step(context: Context, station: str) -> Step | None:
    """The step to show at a station; None for whoever is not on the tour."""
    steps = _steps()
    if station not in steps or tour_state(context) != "on":
        return None
    keys = list(steps)
    at = keys.index(station)
    # Nothing leads on from the file to the next step but saving it, and from the delivery but writing it.
    following = keys[at + 1] if 0 < at < len(keys) - 2 else ""
    title, html = steps[station]
    return Step(at + 1, len(keys), title, html, following, steps[following][0] if following else "")


@router.post("", dependencies=[needs(change=Role.ARTIST)])
def begin(request: Request, store: Store) -> Any:
    """The tour's file, read and put aside; its page shows the first step."""
    data = (HERE / "samples" / _FILE).read_bytes()
    source = take_in_bytes(store, request.app.state.parsers, _FILE, data)
    choose_tour(store, "on")
    return RedirectResponse(f"/take-in/{source.id}?show={_SHOW}&shot={_SHOT}", status_code=303)


@router.post("/end")
def end(store: Store) -> Any:
    choose_tour(store, "ended")
    return RedirectResponse("/", status_code=303)
