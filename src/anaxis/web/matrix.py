"""One camera in all packages: cameras by packages, with grade and worst pixels."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.store.deliveries import newest_deliveries
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
                if camera.versions:
                    newest = {d.profile["key"]: d for d in newest_deliveries(camera.head)}
                    keys |= {k: d.profile["label"] for k, d in newest.items()}
                    rows.append((show, shot, camera, newest))
    return page(request, "matrix/index.html", rows=rows, keys=dict(sorted(keys.items())))
