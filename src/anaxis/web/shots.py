"""Shots: the show's shots with, for each camera, its state and its worst deviation."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter, Request

from anaxis.formats.track_json import track_schema
from anaxis.store.models import Camera, Delivery, Version
from anaxis.store.queries import all_shows, newest_deliveries
from anaxis.web.pages import Store, page

router = APIRouter()


@dataclass(frozen=True)
class Row:
    """One camera on the list: ``worst`` is the delivery of its newest version that is furthest off."""

    camera: Camera
    version: Version
    worst: Delivery | None
    packages: list[str]
    warnings: int

    @property
    def state(self) -> str:
        if self.worst is None:
            return "taken in"
        return "delivered" if self.worst.grade == "exact" else self.worst.grade


@router.get("/")
def shots(request: Request, store: Store) -> Any:
    shows = all_shows(store)
    rows = {shot.id: [_row(c) for c in shot.cameras if c.versions] for show in shows for shot in show.shots}
    return page(request, "shots/index.html", shows=[s for s in shows if s.shots], rows=rows)


@router.get("/schema/track.json")
def schema() -> dict[str, Any]:
    """The published JSON Schema of track documents."""
    return track_schema()


def _row(camera: Camera) -> Row:
    version = camera.versions[-1]
    newest = newest_deliveries(version)
    worst = max(newest, key=lambda d: d.max_px, default=None)
    warnings = sum(f["severity"] != "note" for f in version.findings)
    return Row(camera, version, worst, sorted(d.profile["label"] for d in newest), warnings)
