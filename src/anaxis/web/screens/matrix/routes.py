"""One camera in all packages: cameras by packages, with grade and worst pixels."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.app.deliver import newest_deliveries
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import Delivery
from anaxis.store.queries import all_shows
from anaxis.web.drawings.axes import axes_svg
from anaxis.web.pages import Store, page

router = APIRouter()


@router.get("/matrix")
def matrix(request: Request, store: Store) -> Any:
    rows: list[Any] = []
    receivers: dict[str, Profile] = {}
    for show in all_shows(store):
        for shot in show.shots:
            for camera in shot.cameras:
                if camera.head_id is not None and camera.removed_at is None:
                    cells: dict[str, list[Delivery]] = {}
                    for delivery in newest_deliveries(camera.head):
                        key = delivery.profile["key"]
                        if key not in receivers:
                            receivers[key] = profile_from_dict(delivery.profile, "a delivery's profile")
                        cells.setdefault(key, []).append(delivery)
                    rows.append((show, shot, camera, cells))
    return page(request, "matrix/index.html", rows=rows, receivers=dict(sorted(receivers.items())), axes=axes_svg)
