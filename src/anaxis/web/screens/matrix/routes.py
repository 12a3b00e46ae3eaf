"""One camera in all packages: cameras by packages, with grade and worst pixels."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.app.deliver import newest_deliveries
from anaxis.store.models import Delivery
from anaxis.store.queries import all_shows
from anaxis.web.pages import Store, page

router = APIRouter()


@router.get("/matrix")
def matrix(request: Request, store: Store) -> Any:
    rows: list[Any] = []
    keys: dict[str, str] = {}
    for show in all_shows(store):
        for shot in show.shots:
            for camera in shot.cameras:
                if camera.head_id is not None:
                    cells: dict[str, list[Delivery]] = {}
                    for delivery in newest_deliveries(camera.head):
                        key = delivery.profile["key"]
                        keys[key] = delivery.profile["label"]
                        cells.setdefault(key, []).append(delivery)
                    rows.append((show, shot, camera, cells))
    return page(request, "matrix/index.html", rows=rows, keys=dict(sorted(keys.items())))
