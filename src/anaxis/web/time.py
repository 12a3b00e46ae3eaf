"""The Time station's drawing: what another rate would do, both ways, before it is done."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.core.resample import at_rate, resampling_error
from anaxis.core.timing import parse_rate
from anaxis.core.track import Track
from anaxis.store.models import Shot, Version
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.pages import Store, page
from anaxis.web.rulers_drawing import rulers_svg, spans_of

router = APIRouter(prefix="/cameras")
RATES = ("23.976", "24", "25", "29.97", "30", "47.952", "48", "50", "59.94", "60", "119.88", "120")


@router.get("/{camera_id}/rulers")
def rulers(request: Request, store: Store, camera_id: int, version: int, rate: str = "") -> Any:
    kept = get_version(store, camera_id, version)
    return page(request, "camera/rulers.html", **rulers_context(kept, track_of(kept)[0], rate))


def rulers_context(version: Version, track: Track, rate_text: str) -> dict[str, Any]:
    """The drawing for a rate, and what sampling anew would lose in pixels at the source's own samples."""
    rate = parse_rate(rate_text) if rate_text.strip() else track.rate
    picture = picture_of_version(version)
    spans = spans_of(track, rate)
    error = None
    if rate != track.rate and len(spans) == 3 and len(track) > 1:
        error = resampling_error(track, at_rate(track, rate, "time"), picture.image, picture.fit)
    return {"rulers": rulers_svg(spans, _expected(version.camera.shot)), "resampling": error}


def _expected(shot: Shot) -> int | None:
    """How many frames the shot should have, where somebody has said."""
    if shot.first_frame is None or shot.last_frame is None:
        return None
    return round(shot.last_frame - shot.first_frame) + 1
