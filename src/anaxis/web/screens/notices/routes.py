"""Notices: what concerns whoever looks, since they last looked."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse

from anaxis.app.notices.notices import KINDS, mark_all_read, notices_of, open_notice
from anaxis.app.roles import Role
from anaxis.web.access import needs
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/notices", dependencies=[needs(Role.NOBODY, Role.NOBODY)])


@router.get("")
def listed(request: Request, store: Store, before: int | None = None, after: int | None = None) -> Any:
    return page(
        request, "notices/index.html", shown=notices_of(store, before, after), paged=before or after, kinds=KINDS
    )


@router.get("/{number}")
def opened(store: Store, number: int) -> Any:
    """To the page that a notice is about; the notice is read by that."""
    return RedirectResponse(open_notice(store, number).link, 303)


@router.post("/read")
def all_read(store: Store) -> Any:
    mark_all_read(store)
    return RedirectResponse("/notices", 303)
