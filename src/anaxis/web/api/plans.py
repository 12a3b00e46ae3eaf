"""Plans and runs of a show, packages, and what was done by whom."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Query, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field

from anaxis.app.documents import DueDocument, HistoryDocument, Paged, PlanDocument, RunDocument
from anaxis.app.everything import everything_of_run, everything_of_show
from anaxis.app.history import Of, count, entries
from anaxis.app.packages import keep_package
from anaxis.app.roles import Role
from anaxis.app.shows.plan import (
    DUE,
    STATES,
    board,
    drop_of,
    due,
    progress_of,
    resume_run,
    set_target,
    shots_named,
    start_run,
    stop_run,
)
from anaxis.core.errors import BadInput
from anaxis.delivery.options import DeliveryOptions
from anaxis.packages.model import Profile
from anaxis.store.models import Run, Show
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import get_show
from anaxis.store.rows import found
from anaxis.web.access import needs
from anaxis.web.api.description import ZIP
from anaxis.web.api.fields import FormatKey, Name, Number, PackageKey
from anaxis.web.api.interface import interface_router
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, zip_answer

router = interface_router()
_LEAD = [needs(change=Role.LEAD)]


class NewTarget(BaseModel):
    """A package and format that receive shots of a show."""

    to: PackageKey
    format: FormatKey
    recipe: Name = ""
    shots: list[Name] = Field(default=[], description="Shots by name; empty for all.")
    together: Literal["", "shot", "show"] = Field(
        "", description="One file with the cameras of each shot, or of the show."
    )
    options: DeliveryOptions = DeliveryOptions()


class NewRun(BaseModel):
    """The deliveries of a run: by state, for all cameras or some."""

    states: list[Literal["failed", "mismatch", "outdated", "missing"]] = []
    cameras: list[Number] | None = None


class PackageRef(BaseModel):
    key: str
    label: str


@router.get("/shows/{show_id}/plan", tags=["plans"])
def plan(store: Store, show_id: Number) -> PlanDocument:
    """List the state of each camera for each target: missing, matches, outdated, failed and so on."""
    return PlanDocument.of(board(store, get_show(store, show_id)), STATES)


@router.put("/shows/{show_id}/plan/targets", tags=["plans"], dependencies=_LEAD)
def target_set(store: Store, show_id: Number, asked: NewTarget) -> PlanDocument:
    show = get_show(store, show_id)
    only = shots_named(show, asked.shots)
    set_target(store, show, asked.to, asked.format, asked.options, asked.recipe, only, asked.together)
    return PlanDocument.of(board(store, show), STATES)


@router.delete("/shows/{show_id}/plan/targets", tags=["plans"], dependencies=_LEAD)
def target_dropped(store: Store, show_id: Number, to: Name, format: Name) -> PlanDocument:
    show = get_show(store, show_id)
    drop_of(store, show, to, format)
    return PlanDocument.of(board(store, show), STATES)


@router.get("/shows/{show_id}/plan/due", tags=["plans"])
def what_is_due(store: Store, show_id: Number) -> list[DueDocument]:
    """Preview a run."""
    return [DueDocument.of(d) for d in due(board(store, get_show(store, show_id)))]


@router.post("/shows/{show_id}/runs", tags=["plans"], status_code=202)
def run_started(request: Request, store: Store, show_id: Number, asked: NewRun) -> RunDocument:
    """Start a run: queue all deliveries that are due and not yet running."""
    run = start_run(
        store, get_show(store, show_id), asked.states or DUE, None if asked.cameras is None else set(asked.cameras)
    )
    ensure_worker(request, True)
    return RunDocument.of(run, progress_of(store, run))


@router.get("/runs/{number}", tags=["plans"])
def run(store: Store, number: Number) -> RunDocument:
    held = found(store, Run, number, "run")
    return RunDocument.of(held, progress_of(store, held))


@router.get("/runs/{number}/bundle", tags=["plans"], response_class=StreamingResponse, responses=ZIP)
def run_bundle(request: Request, store: Store, number: Number) -> Any:
    """Download all files of a run as a zip with a manifest, with a folder for each package."""
    return zip_answer(request, everything_of_run(store, found(store, Run, number, "run")))


@router.get("/shows/{show_id}/bundle", tags=["plans"], response_class=StreamingResponse, responses=ZIP)
def show_bundle(request: Request, store: Store, show_id: Number) -> Any:
    """Download the newest deliveries of a show as a zip."""
    return zip_answer(request, everything_of_show(store, found(store, Show, show_id, "show")))


@router.post("/runs/{number}/stop", tags=["plans"])
def run_stopped(store: Store, number: Number) -> RunDocument:
    held = stop_run(store, found(store, Run, number, "run"))
    return RunDocument.of(held, progress_of(store, held))


@router.post("/runs/{number}/resume", tags=["plans"])
def run_resumed(store: Store, number: Number, failed: bool = False) -> RunDocument:
    """Resume stopped deliveries; with ``failed``, retry failed ones."""
    held = resume_run(store, found(store, Run, number, "run"), ("failed",) if failed else ("stopped",))
    return RunDocument.of(held, progress_of(store, held))


@router.get("/packages", tags=["packages"])
def packages(store: Store) -> list[PackageRef]:
    return [PackageRef(key=p.key, label=p.label) for p in all_packages(store).values()]


@router.get("/packages/{key}", tags=["packages"])
def package(store: Store, key: Name) -> Profile:
    return get_package(store, key)


@router.put("/packages/{key}", tags=["packages"], dependencies=_LEAD)
def package_kept(store: Store, key: Name, profile: Profile, change: Name = "over the interface") -> Profile:
    """Save your own package as its next version."""
    if profile.key != key:
        raise BadInput(
            f"The profile's key is '{profile.key}', but the address has '{key[:60]}': use the same key in both."
        )
    keep_package(store, profile, change)
    return profile


@router.get("/history", tags=["history"])
def history(
    store: Store, show: Number | None = None, shot: Number | None = None, camera: Number | None = None, package: Name = "", who: Name = "",
    did: Name = "", days: Annotated[int | None, Query(ge=0, le=36_500)] = None, at: Annotated[int, Query(ge=0, le=2**62)] = 0,
) -> Paged[HistoryDocument]:  # fmt: skip
    """List history entries, newest first, 100 at a time. ``found`` is 10001 where there are more than 10000."""
    of = Of(show, shot, camera, package, who, did, days)
    shown = entries(store, of, at or None)
    listed = [HistoryDocument.of(e) for e in shown.rows]
    return Paged(entries=listed, found=count(store, of), at=at, next=shown.before)
