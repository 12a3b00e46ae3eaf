"""The proof's page: the answer in one line, the pictures that show it, the numbers that explain it."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response

from anaxis.app.deliveries.deliver import get_delivery, get_delivery_file, options_from, proof_arrays, shot_camera_of
from anaxis.app.deliveries.hand_over import handed_again, outgoing_of, printed_sheet, proof_of_delivered_set
from anaxis.app.deliveries.marks import mark_rows
from anaxis.app.people.views import guides_of
from anaxis.app.plates.plates import plates_of
from anaxis.core.camera.guides import shapes_of
from anaxis.core.camera.track import Track
from anaxis.core.typing import Floats
from anaxis.delivery.transfer_sheet import sheet_html
from anaxis.formats import set_formats_of
from anaxis.packages.model import profile_from_dict
from anaxis.store.queries import get_version, picture_of_version
from anaxis.web.access import needs
from anaxis.web.drawings.blocks import Drawing
from anaxis.web.drawings.camera import proof_drawing
from anaxis.web.pages import Store, download_answer, drawing_answer, drawings_of, page
from anaxis.web.screens.film.routes import guide_context
from anaxis.web.screens.help.tour import tour_step
from anaxis.web.stations import stations_of

router = APIRouter(prefix="/deliveries", dependencies=[needs()])


@router.get("/{delivery_id}")
def proof(request: Request, store: Store, delivery_id: int) -> Any:
    delivery = get_delivery(store, delivery_id)
    version = get_version(store, delivery.version.camera_id, delivery.version.number)
    profile = profile_from_dict(delivery.profile, "the delivery's profile")
    camera = shot_camera_of(store, version)
    track, landmarks, picture = camera.track, camera.landmarks, camera.picture
    outgoing = outgoing_of(delivery, camera, profile)
    numbers = outgoing.numbers()
    meant = camera.own_numbers()
    meant_used = track.lens.used(picture.image, picture.fit)
    their_used = outgoing.track.lens.used(outgoing.image, outgoing.fit)
    at = int(np.flatnonzero(track.frames == delivery.worst_frame)[0])
    return page(
        request, "proof/index.html",
        delivery=delivery, version=version, camera=version.camera, shot=version.camera.shot, profile=profile,
        picture=picture, track=track, numbers=numbers, meant=meant, at=at, outgoing=outgoing, landmarks=landmarks.shown(),
        marks=mark_rows(track, landmarks.shown(), picture, proof_arrays(delivery)[1], at), meant_used=meant_used, their_used=their_used, stations=stations_of(store, version), open_station="prove",
        plates=plates_of(store, version.camera.shot), back=f"/deliveries/{delivery_id}", **guide_context(store), tour=tour_step(store, "prove"),
        set_lines=len(camera.lines_m) if set_formats_of(options_from(delivery.options).set_formats) else 0,
        guide_shapes=[s._asdict() for s in shapes_of(guides_of(store), picture.image, track, picture.fit)],
    )  # fmt: skip


@router.get("/{delivery_id}/drawing")
def drawing(request: Request, store: Store, delivery_id: int, block: int | None = None) -> Response:
    """The drawings' data; of a long shot by ``block``."""
    delivery = get_delivery(store, delivery_id)

    def make() -> Drawing:
        profile = profile_from_dict(delivery.profile, "the delivery's profile")
        camera = shot_camera_of(store, delivery.version)
        track, asked = camera.track, delivery.options
        deviation, arrived = proof_arrays(delivery)
        numbers = {"ours": camera.own_numbers(), "theirs": outgoing_of(delivery, camera, profile).numbers()}
        return proof_drawing(
            track, camera.landmarks, camera.lines_m, picture_of_version(delivery.version), deviation, arrived,
            asked.get("first"), _key_frames(asked, track), numbers,
        )  # fmt: skip

    return drawing_answer(drawings_of(request).get(("delivery", delivery.id), make).part(block))


@router.get("/{delivery_id}/set")
def proof_of_the_set(request: Request, store: Store, delivery_id: int) -> Any:
    """Each object of the set that goes along, as it arrives beside the camera."""
    delivery = get_delivery(store, delivery_id)
    found = proof_of_delivered_set(store, delivery)
    return page(request, "proof/set.html", found=found, version=delivery.version)


def _key_frames(asked: dict[str, Any], track: Track) -> Floats:
    """The frames that kept a key, in our numbering; none where every frame has one."""
    kept = np.array(asked.get("keys", {}).get("frames", []), dtype=np.float64)
    return kept + (track.frames[0] - asked["first"]) if "first" in asked and len(kept) else kept


@router.get("/{delivery_id}/sheet")
def sheet(store: Store, delivery_id: int) -> Response:
    """The transfer sheet of a delivery, to look at or to print."""
    return HTMLResponse(sheet_html(handed_again(store, get_delivery(store, delivery_id))))


@router.get("/{delivery_id}/sheet.pdf")
def printed(store: Store, delivery_id: int) -> Response:
    name, data = printed_sheet(store, get_delivery(store, delivery_id))
    return download_answer(name, data, "application/pdf")


@router.get("/{delivery_id}/files/{name}")
def download(store: Store, delivery_id: int, name: str) -> Response:
    row = get_delivery_file(store, delivery_id, name)
    return download_answer(row.name, row.data)
