"""Shots: the show's shots with, for each camera, its state and its worst deviation."""

from __future__ import annotations

from dataclasses import dataclass
from math import isfinite
from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse

from anaxis.app.deliver import furthest_off, newest_deliveries
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.formats.track_json.document import track_schema
from anaxis.store.models import Camera, Delivery, Version
from anaxis.store.queries import all_shows, findings_of, get_shot
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
        if self.worst.matches or not self.worst.in_pixels:
            return "delivered" if self.worst.matches else self.worst.grade
        return self.worst.verdict


@router.get("/")
def shots(request: Request, store: Store) -> Any:
    shows = all_shows(store)
    rows = {
        shot.id: [_row(c) for c in shot.cameras if c.head_id is not None]
        for show in shows
        for shot in show.shots
    }
    return page(request, "shots/index.html", shows=[s for s in shows if s.shots], rows=rows)


@router.post("/shots/{shot_id}/expected")
def expect(
    store: Store, shot_id: int, first_frame: Annotated[str, Form()] = "", last_frame: Annotated[str, Form()] = "",
    rate: Annotated[str, Form()] = "", camera: Annotated[int | None, Form()] = None, to: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """What the edit expects of a shot; its cameras are held against it from now on."""
    shot = get_shot(store, shot_id)
    ends = [_frame(first_frame, "first frame"), _frame(last_frame, "last frame")]
    if ends[0] is not None and ends[1] is not None and ends[1] < ends[0]:
        raise BadInput(f"The shot's last frame {ends[1]:g} lies before its first {ends[0]:g}: swap them.")
    shot.first_frame, shot.last_frame = ends
    shot.rate = rate_text(parse_rate(rate)) if rate.strip() else None
    store.flush()
    target = f"/cameras/{camera}?station=time&to={to}" if camera else "/"
    return RedirectResponse(target, status_code=303)


def _frame(text: str, what: str) -> float | None:
    try:
        value = float(text) if text.strip() else None
    except ValueError as error:
        raise BadInput(f"'{text}' is no {what}: write a frame number, or leave it empty.") from error
    if value is not None and not isfinite(value):
        raise BadInput(f"'{text}' is no {what}: write a frame number, or leave it empty.")
    return value


@router.get("/schema/track.json")
def schema() -> dict[str, Any]:
    """The published JSON Schema of track documents."""
    return track_schema()


def _row(camera: Camera) -> Row:
    version = camera.head
    newest = newest_deliveries(version)
    worst = furthest_off(newest)
    warnings = sum(f.severity != "note" for f in findings_of(version))
    return Row(camera, version, worst, sorted({d.profile["label"] for d in newest}), warnings)
