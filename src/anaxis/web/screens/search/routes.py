"""Search over everything, on a page of its own and in the dialog that each page has."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.app.search import Hit, Hits, search
from anaxis.web.access import needs
from anaxis.web.pages import Store, page
from anaxis.web.screens.help.texts import search as search_help

router = APIRouter(dependencies=[needs()])


@router.get("/search")
def found(request: Request, store: Store, q: str = "") -> Any:
    asked = q[:200]
    name = "search/found.html" if request.headers.get("hx-request") else "search/index.html"
    return page(request, name, q=asked, found=[*search(store, asked), *_help(asked)])


def _help(asked: str) -> list[Hits]:
    topics = search_help(asked) if asked.strip() else []
    hits = [Hit(t.title, "", f"/help/{t.name}") for t in topics]
    return [Hits("Help", hits, False)] if hits else []
