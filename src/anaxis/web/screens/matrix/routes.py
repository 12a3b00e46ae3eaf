"""One camera in all packages: cameras by packages, with grade and worst pixels."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.app.deliveries.deliver import newest_deliveries
from anaxis.app.shows.shots import shown_show
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import Camera, Delivery
from anaxis.store.queries import cameras_on_the_list
from anaxis.web.access import needs
from anaxis.web.drawings.axes import axes_svg
from anaxis.web.pages import Store, page

router = APIRouter(dependencies=[needs()])


@router.get("/matrix")
def matrix(request: Request, store: Store, show: int | None = None) -> Any:
    """Of a show's cameras on the list: the show worked in last, or the one asked for."""
    shown = shown_show(store, show)
    rows: list[tuple[Camera, dict[str, list[Delivery]]]] = []
    receivers: dict[str, Profile] = {}
    for camera in cameras_on_the_list(store, shown) if shown else ():
        cells: dict[str, list[Delivery]] = {}
        for delivery in newest_deliveries(camera.head):
            key = delivery.profile["key"]
            if key not in receivers:
                receivers[key] = profile_from_dict(delivery.profile, "a delivery's profile")
            cells.setdefault(key, []).append(delivery)
        rows.append((camera, cells))
    return page(
        request, "matrix/index.html", rows=rows, show=shown, receivers=dict(sorted(receivers.items())), axes=axes_svg
    )
