"""The help pages, which ship with the application."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.store.rows import NotFound
from anaxis.web.access import needs
from anaxis.web.pages import page
from anaxis.web.screens.help.texts import search, topics

router = APIRouter(prefix="/help", dependencies=[needs()])


@router.get("")
def index(request: Request, q: str = "") -> Any:
    return page(request, "help/index.html", topics=topics(), found=search(q[:200]), q=q[:200], topic=None)


@router.get("/{name}")
def topic(request: Request, name: str) -> Any:
    found = topics().get(name)
    if found is None:
        raise NotFound(f"There is no help topic '{name[:40]}': choose one from the list.")
    return page(request, "help/index.html", topics=topics(), found=[], q="", topic=found)
