"""The router of each part of the HTTP interface."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter

from anaxis.app.roles import Role
from anaxis.web.access import needs
from anaxis.web.api.description import name_of
from anaxis.web.api.fields import REFUSALS
from anaxis.web.api.once import Once


def interface_router(*tags: str, read: Role = Role.VIEWER, change: Role = Role.ARTIST) -> APIRouter:
    """A router whose addresses state their refusals, have names for clients, and answer an Idempotency-Key once.

    ``read`` and ``change`` are the roles that its addresses need.
    """
    more: dict[str, Any] = {"tags": list(tags)} if tags else {}
    return APIRouter(
        route_class=Once,
        generate_unique_id_function=name_of,
        dependencies=[needs(read, change)],
        responses=REFUSALS,
        **more,
    )
