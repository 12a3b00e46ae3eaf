"""The history: who did what, when, to what; filtered, paged, written out."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter, Request
from fastapi.responses import Response

from anaxis.app.history import PAGE, Of, actions_and_actors, as_csv, count, detail_words, entries
from anaxis.store.queries import get_camera, get_shot, get_show
from anaxis.web.access import needs
from anaxis.web.pages import Store, download_answer, number_or_none, page

router = APIRouter(dependencies=[needs()])


@router.get("/history")
def history(
    request: Request, store: Store, show: int | None = None, shot: int | None = None, camera: int | None = None, package: str = "", who: str = "",
    action: str = "", days: str = "", at: int = 0,
) -> Any:  # fmt: skip
    of = _of(show, shot, camera, package, who, action, days)
    actions, actors = actions_and_actors(store)
    about = [(get_show(store, show).name, f"/?show={show}")] if show is not None else []
    if shot is not None:
        about = [(get_shot(store, shot).name, f"/shots/{shot}")]
    if camera is not None:
        held = get_camera(store, camera)
        about = [(f"{held.shot.name} {held.name}", f"/cameras/{camera}")]
    if package:
        about = [(f"the package {package}", f"/packages/{package}")]
    kept = {k: v for k, v in request.query_params.items() if k != "at" and v}
    return page(
        request, "history/index.html", of=of, entries=entries(store, of, at), whole=count(store, of), at=max(0, at), step=PAGE, actions=actions,
        actors=actors, about=about, kept=urlencode(kept), words=detail_words,
    )  # fmt: skip


@router.get("/history.csv")
def history_csv(
    store: Store, show: int | None = None, shot: int | None = None, camera: int | None = None, package: str = "", who: str = "", action: str = "",
    days: str = "",
) -> Response:  # fmt: skip
    """All that the page would list, on every page of it."""
    written = "".join(as_csv(store, _of(show, shot, camera, package, who, action, days)))
    return download_answer("history.csv", written.encode(), "text/csv; charset=utf-8")


def _of(
    show: int | None, shot: int | None, camera: int | None, package: str, who: str, action: str, days: str
) -> Of:  # fmt: skip
    typed = number_or_none(days, "the days")
    return Of(show, shot, camera, package, who, action, None if typed is None else max(0, min(int(typed), 36_500)))
