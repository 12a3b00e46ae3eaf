"""The history: who did what, when, to what; filtered, paged, written out."""

from __future__ import annotations

from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response

from anaxis.app.history import PAGE, Of, actions_and_actors, as_csv, count, detail_words, entries
from anaxis.store.queries import get_camera, get_shot, get_show
from anaxis.web.access import needs
from anaxis.web.forms import PageForm, whole_days
from anaxis.web.pages import Store, download_answer, page

router = APIRouter(dependencies=[needs()])


class HistoryQuery(PageForm):
    """Which entries: of a show, shot, camera or package, by whom, what, of the last ``days``; from which on."""

    show: int | None = None
    shot: int | None = None
    camera: int | None = None
    package: str = ""
    who: str = ""
    action: str = ""
    days: float | None = None
    at: int = 0

    @property
    def of(self) -> Of:
        return Of(self.show, self.shot, self.camera, self.package, self.who, self.action, whole_days(self.days))


@router.get("/history")
def history(request: Request, store: Store, query: Annotated[HistoryQuery, Query()]) -> Any:
    of = query.of
    actions, actors = actions_and_actors(store)
    about = [(get_show(store, query.show).name, f"/?show={query.show}")] if query.show is not None else []
    if query.shot is not None:
        about = [(get_shot(store, query.shot).name, f"/shots/{query.shot}")]
    if query.camera is not None:
        held = get_camera(store, query.camera)
        about = [(f"{held.shot.name} {held.name}", f"/cameras/{query.camera}")]
    if query.package:
        about = [(f"the package {query.package}", f"/packages/{query.package}")]
    kept = {k: v for k, v in request.query_params.items() if k != "at" and v}
    return page(
        request, "history/index.html", of=of, entries=entries(store, of, query.at), whole=count(store, of), at=max(0, query.at), step=PAGE, actions=actions,
        actors=actors, about=about, kept=urlencode(kept), words=detail_words,
    )  # fmt: skip


@router.get("/history.csv")
def history_csv(store: Store, query: Annotated[HistoryQuery, Query()]) -> Response:
    """All that the page would list, on every page of it."""
    written = "".join(as_csv(store, query.of))
    return download_answer("history.csv", written.encode(), "text/csv; charset=utf-8")
