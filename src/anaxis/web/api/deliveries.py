"""Deliveries and their proof, the long work that makes them, and cameras that came back."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import File, Form, Request, Response, UploadFile
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import get_delivery, get_delivery_file, proof_arrays
from anaxis.app.deliveries.films import FilmOrder, Kind, ask_for_film
from anaxis.app.deliveries.hand_over import printed_sheet
from anaxis.app.deliveries.orders import Order, fulfil
from anaxis.app.deliveries.returned import get_return, take_back
from anaxis.app.documents import DeliveryDocument, HandedOver, JobDocument, ReturnDocument
from anaxis.app.made_files import get_made_file
from anaxis.app.roles import Actor
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import CAMERA_SUFFIXES, check_size, format_of, require_readable
from anaxis.library.film import FilmOptions
from anaxis.queue.jobs import OPEN, get_job, left_alone, resume_job, stop
from anaxis.store.models import Job
from anaxis.store.packages import get_package
from anaxis.store.queries import get_version, track_of
from anaxis.web.api.description import EVENTS, FILE, PDF
from anaxis.web.api.fields import FormatKey, Name, Number, PackageKey
from anaxis.web.api.interface import interface_router
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, download_answer, name_of_upload
from anaxis.web.streams import events

router = interface_router("deliveries")
_LOOK_EVERY_S = 0.5


class NewDelivery(BaseModel):
    """Deliveries of a camera: packages and formats. ``version`` is the current one if left out."""

    to: list[PackageKey] = Field(min_length=1, max_length=40, examples=[["zup-lh-cm"]])
    formats: list[FormatKey] = Field(min_length=1, max_length=10, examples=[["usd"]])
    version: Number | None = None
    options: DeliveryOptions = DeliveryOptions()


class FrameDeviation(BaseModel):
    frame: float
    deviation_px: float


class ProofDocument(BaseModel):
    """The deviation of every frame, in pixels of the picture."""

    delivery: DeliveryDocument
    frames: list[FrameDeviation]
    frames_missing: list[float] = Field(
        description="Missing frames; their deviation is that of the pose the package shows."
    )
    differences: list[Any] = Field(description="Differences outside the picture.")


@router.post("/cameras/{camera_id}/deliveries", status_code=201)
def deliver(request: Request, response: Response, store: Store, camera_id: Number, asked: NewDelivery) -> HandedOver:
    """Write and prove deliveries: 201 when done at once, 202 with jobs for long work."""
    for key in asked.formats:
        format_of(key)
    held = get_version(store, camera_id, asked.version)
    profiles = [get_package(store, key) for key in dict.fromkeys(asked.to)]
    done = fulfil(store, Order([held], profiles, list(dict.fromkeys(asked.formats)), asked.options, ""))
    if done.jobs:
        response.status_code = 202
    ensure_worker(request, bool(done.jobs))
    return HandedOver(
        deliveries=[DeliveryDocument.of(d) for d in done.deliveries], jobs=[JobDocument.of(j) for j in done.jobs], refused=done.refused
    )  # fmt: skip


class NewFilm(BaseModel):
    """A film of a camera. ``version`` is the current one if left out; ``delivery`` or ``returned`` belongs to that version and is compared; ``plate`` is a plate of the shot."""

    version: Number | None = None
    options: FilmOptions = FilmOptions()
    kind: Kind = "mp4"
    delivery: Number | None = None
    returned: Number | None = None
    plate: Number | None = None
    frame: float | None = Field(default=None, description="A still of this frame alone.")


@router.post("/cameras/{camera_id}/films", status_code=202)
def film(request: Request, store: Store, camera_id: Number, asked: NewFilm) -> JobDocument:
    """Make a film as a job. The file is at /jobs/{number}/file when the job is done."""
    held = get_version(store, camera_id, asked.version)
    order = FilmOrder([held], asked.options, asked.kind, asked.delivery, asked.returned, asked.plate, asked.frame)
    made = ask_for_film(store, order)
    ensure_worker(request, True)
    return _job(store, made.id)


@router.get("/jobs/{number}/file", response_class=Response, responses=FILE)
def job_file(store: Store, number: Number) -> Response:
    """Download the file of a job: a film or a zip."""
    made = get_made_file(store, get_job(store, number).result.get("made_file"))
    return download_answer(made.name, made.data)


@router.get("/jobs/{number}")
def job(store: Store, number: Number) -> JobDocument:
    return _job(store, number)


def _job(session: Context, number: int) -> JobDocument:
    return JobDocument.of(get_job(session, number), bool(left_alone(session, Job.id == number)))


@router.get("/jobs/{number}/events", response_class=StreamingResponse, responses=EVENTS)
def job_followed(request: Request, store: Store, number: Number) -> Any:
    """Follow a job as server-sent events until it ends."""
    get_job(store, number)
    engine, actor = request.app.state.engine, store.actor

    async def told() -> AsyncIterator[str]:
        before = ""
        while True:
            now = await run_in_threadpool(_looked_at, engine, actor, number)
            if now is None:
                return
            text = now.model_dump_json()
            yield f"data: {text}\n\n" if text != before else ": nothing new\n\n"
            before = text
            if now.state not in OPEN:
                return
            await asyncio.sleep(_LOOK_EVERY_S)

    return events(request, told())


def _looked_at(engine: Engine, actor: Actor, number: int) -> JobDocument | None:
    with Context(engine, actor) as session:
        return _job(session, number) if session.get(Job, number) is not None else None


@router.post("/jobs/{number}/stop")
def job_stopped(store: Store, number: Number) -> JobDocument:
    stop(store, number)
    store.expire_all()
    return _job(store, number)


@router.post("/jobs/{number}/resume")
def job_resumed(request: Request, store: Store, number: Number) -> JobDocument:
    """Put a stopped or failed job back in the queue."""
    resume_job(store, number)
    ensure_worker(request, True)
    return _job(store, number)


@router.get("/deliveries/{delivery_id}")
def delivery(store: Store, delivery_id: Number) -> DeliveryDocument:
    return DeliveryDocument.of(get_delivery(store, delivery_id))


@router.get("/deliveries/{delivery_id}/proof")
def proof(store: Store, delivery_id: Number) -> ProofDocument:
    held = get_delivery(store, delivery_id)
    deviation, _ = proof_arrays(held)
    frames = track_of(held.version)[0].frames
    listed = [FrameDeviation(frame=float(f), deviation_px=float(d)) for f, d in zip(frames, deviation, strict=True)]
    return ProofDocument(
        delivery=DeliveryDocument.of(held),
        frames=listed,
        differences=held.differences,
        frames_missing=held.arrival.get("missing", []),
    )


@router.get("/deliveries/{delivery_id}/files/{name}", response_class=Response, responses=FILE)
def file(store: Store, delivery_id: Number, name: Name) -> Any:
    """Download a delivered file."""
    held = get_delivery_file(store, delivery_id, name)
    return download_answer(held.name, held.data)


@router.get("/deliveries/{delivery_id}/sheet.pdf", response_class=Response, responses=PDF)
def sheet(store: Store, delivery_id: Number) -> Any:
    """Download the transfer sheet as a PDF of one page."""
    name, data = printed_sheet(store, get_delivery(store, delivery_id))
    return download_answer(name, data, "application/pdf")


@router.post("/cameras/{camera_id}/returns", status_code=201)
def came_back(
    request: Request, store: Store, camera_id: Number, file: Annotated[UploadFile, File(description="The file exported by the package.")],
    to: Annotated[Name, Form(description="The package that exported it.")], version: Annotated[Number | None, Form()] = None,
) -> ReturnDocument:  # fmt: skip
    """Upload a returned camera: its deviation from the delivered camera, and the cause."""
    kept, package = get_version(store, camera_id, version), get_package(store, to)
    name, most = name_of_upload(file), request.app.state.limits.max_bytes
    require_readable(name, CAMERA_SUFFIXES)
    check_size(name, file.size or 0, most)
    return ReturnDocument.of(take_back(store, request.app.state.parsers, kept, package, name, file.file.read(most + 1)))


@router.get("/returns/{number}")
def returned(store: Store, number: Number) -> ReturnDocument:
    return ReturnDocument.of(get_return(store, number))
