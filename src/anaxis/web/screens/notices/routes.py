"""Notices: what concerns whoever looks, since they last looked."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse

from anaxis.app.notices.notices import KINDS, PAGE, mark_all_read, notices_of, open_notice
from anaxis.app.roles import Role
from anaxis.web.access import needs
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/notices", dependencies=[needs(Role.NOBODY, Role.NOBODY)])


@router.get("")
def listed(request: Request, store: Store, at: int = 0) -> Any:
    notices = notices_of(store, at)
    return page(request, "notices/index.html", notices=notices[:PAGE], more=len(notices) > PAGE, at=max(0, at), step=PAGE, kinds=KINDS)  # fmt: skip


@router.get("/{number}")
def opened(store: Store, number: int) -> Any:
    """To the page that a notice is about; the notice is read by that."""
    return RedirectResponse(open_notice(store, number).link, 303)


@router.post("/read")
def all_read(store: Store) -> Any:
    mark_all_read(store)
    return RedirectResponse("/notices", 303)
