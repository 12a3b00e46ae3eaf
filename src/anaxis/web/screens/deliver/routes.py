"""Delivering: cameras, packages, formats and ways chosen in one form, written at once or as long work."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Depends, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response
from pydantic import Field, model_validator

from anaxis.app.deliveries.deliver import get_delivery
from anaxis.app.deliveries.hand_over import files_of
from anaxis.app.deliveries.orders import Order, fulfil, zip_of
from anaxis.core.errors import BadInput
from anaxis.delivery.options import OPTION_NAMES, DeliveryOptions
from anaxis.packages.model import profile_from_text
from anaxis.queue.jobs import get_job
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import get_version
from anaxis.web.access import needs
from anaxis.web.forms import StationForm, filled
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, download_answer, page, say_next

router = APIRouter(prefix="/cameras", dependencies=[needs()])
several = APIRouter(dependencies=[needs()])
_MAX_PROFILE_BYTES = 100_000


class DeliverForm(StationForm):
    """The Deliver station: one camera, package and format, more of each, and how they are written."""

    format_key: str
    more_formats: list[str] = Field(default_factory=list)
    more_packages: list[str] = Field(default_factory=list)
    more_cameras: list[int] = Field(default_factory=list)
    together: bool = False
    own_profile: UploadFile | None = None
    options: DeliveryOptions

    @model_validator(mode="before")
    @classmethod
    def _options_together(cls, typed: Any) -> Any:
        return {**typed, "options": {k: v for k, v in filled(typed).items() if k in OPTION_NAMES}}


def _ordered(store: Store, camera_id: int, form: Annotated[DeliverForm, Form()]) -> Order:
    kept = get_version(store, camera_id, form.version)
    if form.own_profile is not None and form.own_profile.filename:
        profile = profile_from_text(form.own_profile.file.read(_MAX_PROFILE_BYTES), form.own_profile.filename)
    else:
        packages = all_packages(store)
        if form.to not in packages:
            raise BadInput(f"'{form.to}' is not a package profile: choose one of {', '.join(packages)}.")
        profile = packages[form.to]
    others = [get_version(store, c) for c in dict.fromkeys(form.more_cameras) if c != camera_id]
    more = [get_package(store, k) for k in dict.fromkeys(form.more_packages) if k != profile.key]
    return Order(
        [kept, *others],
        [profile, *more],
        list(dict.fromkeys([form.format_key, *form.more_formats])),
        form.options,
        kept.camera.shot.name if form.together and others else "",
    )


Ordered = Annotated[Order, Depends(_ordered)]


@router.post("/{camera_id}/deliver")
def make_delivery(request: Request, store: Store, camera_id: int, order: Ordered) -> Any:
    """Write and prove at once, or as work of its own where that takes longer than a page should."""
    done = fulfil(store, order)
    ensure_worker(request, bool(done.jobs))
    parts = {"d": [d.id for d in done.deliveries], "j": [j.id for j in done.jobs]}
    if done.files > 1:
        query = "&".join(f"{k}={','.join(map(str, v))}" for k, v in parts.items() if v)
        at = f"/handed-over?camera={camera_id}&{query}"
    else:
        at = f"/jobs/{parts['j'][0]}" if done.jobs else f"/deliveries/{parts['d'][0]}"
    answer = RedirectResponse(at, status_code=303)
    if done.refused:
        say_next(answer, " ".join(["Not written:", *done.refused]))
    return answer


@several.get("/handed-over")
def handed_over(request: Request, store: Store, camera: int, d: str = "", j: str = "") -> Any:
    """Several deliveries on one page, with all of their files to be fetched together; work of another kind is left out."""
    version = get_version(store, camera)
    deliveries = [get_delivery(store, n) for n in _numbers(d)]
    jobs = [job for job in (get_job(store, n) for n in _numbers(j)) if job.kind == "delivery"]
    deliveries += [get_delivery(store, job.result["delivery"]) for job in jobs if "delivery" in job.result]
    waiting = [job for job in jobs if "delivery" not in job.result]
    deliveries.sort(key=lambda x: (x.matches, x.sound, -x.max_px))
    return page(
        request, "deliver/index.html", deliveries=deliveries, jobs=waiting, camera=version.camera, shot=version.camera.shot, version=version,
        off=[x for x in deliveries if not x.matches], warned=[x for x in deliveries if x.matches and not x.sound], ids=",".join(str(x.id) for x in deliveries),
    )  # fmt: skip


@several.get("/handed-over/files.zip")
def handed_over_files(store: Store, d: str = "") -> Response:
    """The files of several deliveries in one zip, each once."""
    deliveries = [get_delivery(store, n) for n in _numbers(d)]
    return download_answer(*files_of(deliveries), "application/zip")


def _numbers(text: str) -> list[int]:
    """The numbers of a list in an address. Raises BadInput."""
    try:
        return [int(part) for part in text.split(",") if part][:500]
    except ValueError as error:
        raise BadInput("The list of deliveries cannot be read: go back to the camera.") from error


@router.post("/{camera_id}/bundle")
def bundle(request: Request, store: Store, camera_id: int, order: Ordered) -> Response:
    """The package of files: every format, landmarks, set, axis check, sheet, manifest; a zip in a zip for each of several."""
    made = zip_of(store, order)
    if isinstance(made, tuple):
        return download_answer(*made, "application/zip")
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{made.id}", status_code=303)
