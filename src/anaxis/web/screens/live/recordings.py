"""A recording of a tracker: what was measured, what is to be done about it, the camera it would be, and kept as one."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from anaxis.app.exchange.clients import is_there
from anaxis.app.exchange.recordings import Settings, keep_recording, newest_samples, recorded_in, settings_of
from anaxis.app.exchange.tracker_sheet import tracker_sheet
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.library.recorded import Recorded
from anaxis.store.exchange import Recording
from anaxis.store.queries import found
from anaxis.web.access import needs
from anaxis.web.drawings.camera import look_drawing
from anaxis.web.pages import Store, TypedForm, drawing_answer, page, row_number

router = APIRouter(prefix="/recordings", dependencies=[needs()])
# A status by which the page asks no more.
_STOP_ASKING = 286
_ASPECTS = {"": "as filmed", "1.777778": "16:9", "1.85": "1.85", "2.39": "2.39", "1.333333": "4:3", "0.5625": "9:16"}


@router.get("/{number}")
def recording(request: Request, store: Store, number: int) -> Any:
    row = found(store, Recording, number, "recording")
    try:
        recorded, said = recorded_in(store, row), ""
    except BadInput as error:
        recorded, said = None, error.sentence
    settings, wrong = _asked(row, dict(request.query_params), recorded)
    made = None
    if recorded is not None and settings is not None:
        try:
            made = recorded.camera(settings, row.device)
        except BadInput as error:
            wrong = error.sentence
    samples = None if recorded is None else recorded.samples
    return page(
        request, "live/recording/index.html", row=row, show=row.show, samples=samples, settings=settings or Settings(), made=made, sentence=said or wrong,
        gaps=[] if recorded is None else recorded.gaps, jumps=[] if recorded is None else recorded.jumps,
        rate_hz=1 / samples.step_s if samples is not None else 0.0, gap_words=Settings.gap_words(), aspects=_ASPECTS, query=str(request.url.query),
    )  # fmt: skip


@router.get("/{number}/sheet")
def sheet(request: Request, store: Store, number: int) -> Any:
    """The newest sample of a recording as numbers, and the path of its last seconds; asked for while it runs."""
    row = found(store, Recording, number, "recording")
    try:
        sheet = tracker_sheet(newest_samples(store, row))
    except BadInput:
        sheet = None
    connected = row.client is not None and is_there(row.client)
    answer = page(request, "live/tracker.html", row=row, sheet=sheet, connected=connected)
    if row.ended_at is not None:
        answer.status_code = _STOP_ASKING
    return answer


@router.get("/{number}/drawing")
def drawing(request: Request, store: Store, number: int) -> Response:
    row = found(store, Recording, number, "recording")
    recorded = recorded_in(store, row)
    settings, wrong = _asked(row, dict(request.query_params), recorded)
    if settings is None:
        raise BadInput(wrong)
    made = recorded.camera(settings, row.device)
    return drawing_answer(
        look_drawing(made.track, NO_LANDMARKS, np.zeros((0, 2, 3)), Picture(made.image, "width", False, False)),
        kept=False,
    )


@router.post("/{number}/keep")
def keep(store: Store, number: int, typed: TypedForm) -> Any:
    row = found(store, Recording, number, "recording")
    settings = _settings(typed)
    version = keep_recording(store, row, settings)
    return RedirectResponse(f"/cameras/{version.camera_id}", 303)


def _asked(row: Recording, typed: dict[str, str], recorded: Recorded | None) -> tuple[Settings | None, str]:
    """What is typed; else what the camera was made by; else the usual. And what is wrong."""
    try:
        if "rate" in typed:
            return _settings(typed), ""
        if row.settings:
            return settings_of(row.settings), ""
    except BadInput as error:
        return None, error.sentence
    if recorded is None:
        return Settings(camera=row.device), ""
    return Settings(camera=row.device, **recorded.usual.model_dump()), ""


def _settings(typed: dict[str, str]) -> Settings:
    """Raises BadInput that names the field at fault."""
    numbers = {
        k: number_or_none(typed.get(k, ""), k.replace("_", " "))
        for k in ("first_frame", "smooth_px", "aspect", "film_width_mm", "x_m", "y_m", "z_m", "heading_deg", "stand_at")
    }
    place = [numbers.pop(k) for k in ("x_m", "y_m", "z_m")]
    given = {k: v for k, v in numbers.items() if v is not None}
    return settings_of(
        {
            "shot": typed.get("shot", ""), "camera": typed.get("camera", ""), "rate": typed.get("rate", "24"), "gaps": typed.get("gaps", "bridge"),
            "keep": typed.get("keep", "width"), "heal": [int(k[5:]) for k in typed if k.startswith("heal-") and row_number(k[5:]) is not None],
            "stand": None if all(v is None for v in place) else [v or 0.0 for v in place], **given,
        }
    )  # fmt: skip
