"""Shots: the show's shots with, for each camera, its state and its worst deviation."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10
from typing import Annotated, Any

from fastapi import APIRouter, Form, Request, Response
from fastapi.responses import RedirectResponse

from anaxis.app.deliver import furthest_off, newest_deliveries
from anaxis.app.derive import behind_of
from anaxis.app.expect import expect as expect_of_shot
from anaxis.app.take_in import take_in_bytes
from anaxis.core.derive import derived_kind
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate
from anaxis.formats.track_json.document import track_schema
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import EXACT_PX, Camera, Delivery, Version
from anaxis.store.queries import all_shows, findings_of, get_shot, get_version, picture_of_version, track_of
from anaxis.web.drawings.axes import axes_svg
from anaxis.web.drawings.thumbnail import thumbnail
from anaxis.web.pages import HERE, Store, number_or_none, page

router = APIRouter()
# The one scale of deviations: decades of a pixel, from the first to the last.
_DECADES = (-5, 2)
SAMPLES = {
    "TW_010_camera_v001.usdc": "a crane over the sluice gate: nothing wrong with it",
    "TW_040_camera_v001.usdc": "a hand-held walk whose lens is 100 times too large",
}
_SAMPLES = HERE / "samples"


def along_scale(deviation_px: float) -> float:
    """Where a deviation lies on the scale, 0 to 1."""
    low, high = _DECADES
    return min(1.0, max(0.0, (log10(max(deviation_px, 1e-12)) - low) / (high - low)))


@dataclass(frozen=True)
class Row:
    """One camera on the list: ``worst`` is the delivery of its newest version that is furthest off."""

    camera: Camera
    version: Version
    worst: Delivery | None
    packages: list[Profile]
    warnings: int
    behind: bool = False

    @property
    def derived(self) -> str:
        """How it was made from other cameras; "" where it was taken in."""
        found = self.version.derivation
        return derived_kind(found.kind).label if found else ""

    @property
    def bar(self) -> float:
        """How far the worst deviation reaches on the one scale of all rows, 0 to 1."""
        return 0.0 if self.worst is None else along_scale(self.worst.max_px)

    @property
    def state(self) -> str:
        if self.worst is None:
            return "made" if self.derived else "taken in"
        if self.worst.matches or not self.worst.in_pixels:
            return "delivered" if self.worst.matches else self.worst.grade
        return self.worst.verdict


@router.get("/")
def shots(request: Request, store: Store) -> Any:
    shows = all_shows(store)
    late = behind_of(store)
    rows = {
        shot.id: [_row(c, c.head_id in late) for c in shot.cameras if c.head_id is not None and c.removed_at is None]
        for show in shows
        for shot in show.shots
    }
    removed = {show.id: [c for shot in show.shots for c in shot.cameras if c.removed_at is not None] for show in shows}
    ticks = [(f"{10.0**d:g}", along_scale(10.0**d)) for d in (-4, -2, 0)]
    return page(
        request, "shots/index.html", shows=[s for s in shows if s.shots], rows=rows, ticks=ticks, exact=along_scale(EXACT_PX),
        removed=removed, samples=SAMPLES, axes=axes_svg,
    )  # fmt: skip


@router.get("/cameras/{camera_id}/thumbnail.svg")
def thumbnail_file(store: Store, camera_id: int, version: int) -> Response:
    """What a version's camera sees in the middle of its shot; it never changes."""
    kept = get_version(store, camera_id, version)
    drawn = thumbnail(*track_of(kept), picture_of_version(kept))
    cached = {"Cache-Control": "private, max-age=86400, immutable"}
    return Response(drawn, media_type="image/svg+xml", headers=cached)


@router.post("/samples")
def take_sample(request: Request, store: Store, name: Annotated[str, Form()]) -> Any:
    """A file of the demo taken in, to try with."""
    if name not in SAMPLES:
        raise BadInput(f"'{name}' is no sample: choose one of {', '.join(SAMPLES)}.")
    source = take_in_bytes(store, request.app.state.parsers, name, (_SAMPLES / name).read_bytes())
    return RedirectResponse(f"/take-in/{source.id}", status_code=303)


@router.post("/shots/{shot_id}/expected")
def expect(
    store: Store,
    shot_id: int,
    first_frame: Annotated[str, Form()] = "",
    last_frame: Annotated[str, Form()] = "",
    rate: Annotated[str, Form()] = "",
    camera: Annotated[int | None, Form()] = None,
    to: Annotated[str, Form()] = "",
) -> Any:
    """What the edit expects of a shot; its cameras are held against it from now on."""
    first, last = number_or_none(first_frame, "the first frame"), number_or_none(last_frame, "the last frame")
    expect_of_shot(store, get_shot(store, shot_id), first, last, parse_rate(rate) if rate.strip() else None)
    target = f"/cameras/{camera}?station=time&to={to}" if camera else "/"
    return RedirectResponse(target, status_code=303)


@router.get("/schema/track.json")
def schema() -> dict[str, Any]:
    """The published JSON Schema of track documents."""
    return track_schema()


def _row(camera: Camera, behind: bool) -> Row:
    version = camera.head
    newest = newest_deliveries(version)
    worst = furthest_off(newest)
    warnings = sum(f.severity != "note" for f in findings_of(version))
    return Row(
        camera,
        version,
        worst,
        list({d.profile["key"]: profile_from_dict(d.profile, "a delivery's profile") for d in newest}.values()),
        warnings,
        behind,
    )
