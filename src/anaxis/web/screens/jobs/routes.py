"""Long work on the page: how far it is, a way to stop it, and what came of it."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.app.made_files import get_made_file
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.errors import BadInput
from anaxis.queue.jobs import OPEN, ask_for, get_job, left_alone, resume_job, stop
from anaxis.store.models import Job, Version
from anaxis.store.packages import get_package
from anaxis.store.queries import get_version
from anaxis.web.access import needs
from anaxis.web.drawings.keys import keys_svg
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, download_answer, page

router = APIRouter(dependencies=[needs()])
KEPT_WORDS = {
    "delivery": "Writing and measuring",
    "recipe": "Applying a recipe, beginning with",
    "bundle": "Writing everything for",
    "keys": "Reducing keys",
    "film": "Drawing film of",
    "proxies": "Making proxies of the plate",
    "maps": "Writing ST maps",
    "warped": "Applying the maps to the plate",
    "sphere_maps": "Writing maps of the sphere",
    "sphere_pictures": "Applying the maps to the images",
}


def open_work(session: Context, version: Version) -> list[Job]:
    """What is asked for and not over of a version's deliveries and zips, oldest first."""
    query = (
        select(Job)
        .where(Job.version_id == version.id, Job.kind.in_(("delivery", "bundle")), Job.state.in_(OPEN))
        .order_by(Job.id)
    )
    return list(session.execute(query).scalars())


@router.get("/jobs/{number}")
def whole(request: Request, store: Store, number: int) -> Any:
    job = get_job(store, number)
    if job.state == "done" and "delivery" in job.result:
        return RedirectResponse(f"/deliveries/{job.result['delivery']}", status_code=303)
    version = get_version(store, job.version.camera_id, job.version.number)
    return page(
        request,
        "jobs/index.html",
        version=version,
        camera=version.camera,
        shot=version.camera.shot,
        **_context(store, job),
    )


@router.get("/jobs/{number}/state")
def state(request: Request, store: Store, number: int) -> Any:
    """How far it is; asked for again and again until it is over."""
    job = get_job(store, number)
    ensure_worker(request, job.state in OPEN)  # it may have ended in the meantime
    answer = page(request, "jobs/state.html", **_context(store, job))
    if job.state == "done" and "delivery" in job.result:
        answer.headers["HX-Redirect"] = f"/deliveries/{job.result['delivery']}"
    return answer


@router.get("/jobs/{number}/file")
def made(store: Store, number: int) -> Response:
    """What a job made to be fetched."""
    made = get_made_file(store, get_job(store, number).result.get("made_file"))
    return download_answer(made.name, made.data)


@router.get("/jobs/{number}/movie")
def movie(store: Store, number: int) -> Response:
    """A film, to be watched on the page."""
    made = get_made_file(store, get_job(store, number).result.get("made_file"))
    if not made.name.endswith(".mp4"):
        raise BadInput("This job has no movie: download its file.")
    return Response(made.data, media_type="video/mp4")


@router.post("/jobs/{number}/stop")
def stopped(request: Request, store: Store, number: int) -> Any:
    stop(store, number)
    store.flush()
    if request.headers.get("hx-request"):
        return page(request, "jobs/state.html", **_context(store, get_job(store, number)))
    return RedirectResponse(f"/jobs/{number}", status_code=303)


@router.post("/jobs/{number}/resume")
def resumed(request: Request, store: Store, number: int) -> Any:
    """Put a stopped or failed job back in the queue."""
    job = resume_job(store, number)
    ensure_worker(request, True)
    if request.headers.get("hx-request"):
        return page(request, "jobs/state.html", **_context(store, job))
    return RedirectResponse(f"/jobs/{number}", status_code=303)


@router.post("/cameras/{camera_id}/keys")
def keys(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    to: Annotated[str, Form()],
    format_key: Annotated[str, Form()],
    reduce_px: Annotated[str, Form()] = "",
) -> Response:
    """The keys a delivery would have, looked for and drawn before anything is written."""
    kept = get_version(store, camera_id, version)
    pixels = number_or_none(reduce_px, "the keyframe tolerance in pixels")
    if pixels is None or pixels <= 0:
        raise BadInput("Type the tolerance of the keyframe reduction in pixels, such as 0.1.")
    params = {"profile": get_package(store, to).model_dump(mode="json"), "format": format_key, "reduce_px": pixels}
    job = ask_for(store, "keys", kept.id, params)
    ensure_worker(request, True)
    answer: Response = page(request, "jobs/state.html", **_context(store, job))
    return answer


def _context(store: Context, job: Job) -> dict[str, Any]:
    out: dict[str, Any] = {"job": job, "doing": KEPT_WORDS[job.kind], "open": job.state in OPEN}
    out["no_worker"] = bool(left_alone(store, Job.id == job.id))
    if job.kind == "keys" and job.state == "done":
        out["keys_drawing"] = keys_svg(job.result, float(job.params["reduce_px"]))
    return out
