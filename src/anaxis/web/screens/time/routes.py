"""The Time station: both ways to another rate drawn before it is done, timecode, cuts, the first frame."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Query, Request

from anaxis.app.cameras.edit import add_operations
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.time.rates import format_frame, parse_rate
from anaxis.formats.editorial.timecodes import can_drop, frame_of_timecode, timecode_of
from anaxis.library.cuts import cuts_noted
from anaxis.library.made import retimed
from anaxis.store.models import Shot, Version
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.rulers import rulers_svg, spans_of
from anaxis.web.pages import Store, page
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(prefix="/cameras", dependencies=[needs()])
# So many frames are sampled anew in less time than it takes to ask another process.
_QUICK_FRAMES = 3000
RATES = ("23.976", "24", "25", "29.97", "30", "47.952", "48", "50", "59.94", "60", "119.88", "120")


@router.get("/{camera_id}/rulers")
def rulers(
    request: Request, store: Store, camera_id: int, version: int, rate: Annotated[str, Query(alias="param_rate")] = ""
) -> Any:
    kept = get_version(store, camera_id, version)
    return page(request, "camera/rulers.html", **rulers_context(store, kept, track_of(kept)[0], rate))


@router.post("/{camera_id}/first")
def first_frame(
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    first: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Any:
    """The first frame moved, to a number or a timecode."""
    kept = get_version(store, camera_id, version)
    track = track_of(kept)[0]
    if ":" in first or ";" in first:
        number: float | None = float(frame_of_timecode(first.strip(), track.rate))
    else:
        number = number_or_none(first, "a first frame")
    if number is None:
        raise BadInput("Type the first frame, as a number or as a timecode such as 01:00:00:00.")
    words = f"Renumber: from {format_frame(number)}"
    if track.frames[0] < 0 <= number:
        words += f" (it began before frame 0, at {format_frame(track.frames[0])})"
    add_operations(store, kept, [Operation("renumber", {"first": number})], words)
    return back_to(camera_id, "time", to)


def rulers_context(store: Store, version: Version, track: Track, rate_text: str) -> dict[str, Any]:
    """The drawing for a rate, and what sampling anew would lose in pixels at the source's own samples."""
    rate = parse_rate(rate_text) if rate_text.strip() else track.rate
    picture = picture_of_version(version)
    spans = spans_of(track, rate)
    error = None
    if rate != track.rate and len(spans) == 3 and len(track) > 1:
        given = (track, rate, picture.image, picture.fit)
        error = store.make(track.name, retimed, *given) if len(track) > _QUICK_FRAMES else retimed(*given)
    return {"rulers": rulers_svg(spans, _expected(version.camera.shot)), "resampling": error}


def time_context(version: Version, track: Track) -> dict[str, Any]:
    """The station as it opens."""
    ends = (float(track.frames[0]), float(track.frames[-1]))
    codes = [("Timecode", [timecode_of(f, track.rate) for f in ends])]
    if can_drop(track.rate):
        codes = [("Non-drop", codes[0][1]), ("Drop-frame", [timecode_of(f, track.rate, True) for f in ends])]
    cuts, denied = cuts_noted(track)
    return {
        "rates": RATES,
        "timecodes": [(label, ends) for label, ends in codes if all(ends)],
        "cuts": cuts[:20],
        "more_cuts": max(0, len(cuts) - 20),
        "denied_cuts": denied,
        "rulers": rulers_svg(spans_of(track, track.rate), _expected(version.camera.shot)),
        "resampling": None,
    }


def _expected(shot: Shot) -> int | None:
    """How many frames the shot should have, where somebody has said."""
    if shot.first_frame is None or shot.last_frame is None:
        return None
    return round(shot.last_frame - shot.first_frame) + 1
