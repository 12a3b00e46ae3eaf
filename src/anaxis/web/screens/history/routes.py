"""The history: who did what, when, to what; filtered, paged, written out."""

from __future__ import annotations

from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response, StreamingResponse

from anaxis.app.history import Of, actions_and_actors, as_csv, count, count_words, detail_words, entries
from anaxis.store.queries import get_camera, get_shot, get_show
from anaxis.web.access import needs
from anaxis.web.forms import PageForm, whole_days
from anaxis.web.pages import Store, attachment, page

router = APIRouter(dependencies=[needs()])


class HistoryQuery(PageForm):
    """Which entries: of a show, shot, camera or package, by whom, what, of the last ``days``; older or newer than an entry."""

    show: int | None = None
    shot: int | None = None
    camera: int | None = None
    package: str = ""
    who: str = ""
    action: str = ""
    days: float | None = None
    before: int | None = None
    after: int | None = None

    @property
    def of(self) -> Of:
        return Of(self.show, self.shot, self.camera, self.package, self.who, self.action, whole_days(self.days))


@router.get("/history")
def history(request: Request, store: Store, query: Annotated[HistoryQuery, Query()]) -> Any:
    of = query.of
    actions, actors = actions_and_actors(store, query.show)
    shown = entries(store, of, query.before, query.after)
    about = [(get_show(store, query.show).name, f"/?show={query.show}")] if query.show is not None else []
    if query.shot is not None:
        about = [(get_shot(store, query.shot).name, f"/shots/{query.shot}")]
    if query.camera is not None:
        held = get_camera(store, query.camera)
        about = [(f"{held.shot.name} {held.name}", f"/cameras/{query.camera}")]
    if query.package:
        about = [(f"the package {query.package}", f"/packages/{query.package}")]
    kept = {k: v for k, v in request.query_params.items() if k not in ("before", "after") and v}
    return page(
        request, "history/index.html", of=of, shown=shown, paged=query.before is not None or query.after is not None, whole=count_words(count(store, of)), actions=actions, actors=actors, about=about,
        kept=urlencode(kept), words=detail_words,
    )  # fmt: skip


@router.get("/history.csv")
def history_csv(request: Request, query: Annotated[HistoryQuery, Query()]) -> Response:
    """All that the page would list, on every page of it; read from the database while it is sent."""
    lines = as_csv(request.app.state.engine, request.state.actor, query.of)
    return StreamingResponse(lines, media_type="text/csv; charset=utf-8", headers=attachment("history.csv"))
