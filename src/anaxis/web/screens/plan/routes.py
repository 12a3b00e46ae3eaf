"""A show's plan as a board of shots by packages; runs of it, watched, stopped and taken up again; the workers."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse
from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.app.everything import everything_of_run
from anaxis.app.retention import kept as kept_of
from anaxis.app.roles import Role
from anaxis.app.shows.plan import (
    DUE,
    STATES,
    TOGETHER,
    board,
    drop_target,
    due,
    jobs_of,
    made_by,
    progress_of,
    resume_run,
    set_target,
    shots_named,
    start_run,
    stop_run,
    workers,
)
from anaxis.app.shows.shots import shown_show
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import WRITTEN
from anaxis.store.models import PlanTarget, Run, Show
from anaxis.store.packages import all_packages
from anaxis.store.queries import found, get_show, saved_recipes
from anaxis.web.access import needs
from anaxis.web.forms import PageForm
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, page, zip_answer

router = APIRouter(dependencies=[needs()])
_PAGE = 100


@router.get("/matrix")
def by_package(store: Store, show: int | None = None) -> Any:
    """Where the board of cameras by packages was: it is the plan's."""
    shown = shown_show(store, show)
    return RedirectResponse(f"/shows/{shown.id}/plan" if shown else "/", status_code=303)


@router.get("/shows/{show_id}/plan")
def plan(request: Request, store: Store, show_id: int, state: str = "", q: str = "", at: int = 0) -> Any:
    """The board: every camera of the show against every target, the most urgent first where asked."""
    whole = board(store, get_show(store, show_id))
    wanted = q.strip().lower()
    rows = [
        r
        for r in whole.rows
        if (not state or any(c.state == state for c in r.cells))
        and (not wanted or wanted in f"{r.shot.name} {r.camera.name}".lower())
    ]
    at = max(0, min(at, max(0, len(rows) - 1) // _PAGE * _PAGE))
    return page(
        request, "plan/index.html", show=whole.show, board=whole, rows=rows[at : at + _PAGE], shown=len(rows), at=at, step=_PAGE, state=state, q=q,
        counts={s: whole.count(s) for s in STATES}, due=len(due(whole)), packages=all_packages(store), formats=WRITTEN,
        recipes=saved_recipes(store), runs=_runs(store, whole.show), states=STATES, together=TOGETHER,
    )  # fmt: skip


class TargetForm(PageForm):
    """What a plan owes: a format for a package, of some shots only where they are named."""

    package: str
    format_key: str
    recipe: str = ""
    reduce_px: float | None = None
    overscan: str = ""
    only: str = ""
    together: str = ""


@router.post("/shows/{show_id}/plan/targets", dependencies=[needs(change=Role.LEAD)])
def add_target(store: Store, show_id: int, form: Annotated[TargetForm, Form()]) -> Any:
    show = get_show(store, show_id)
    options = DeliveryOptions(reduce_px=form.reduce_px, overscan=form.overscan.strip())
    only = shots_named(show, form.only.replace(",", " ").split())
    set_target(store, show, form.package, form.format_key, options, form.recipe, only, form.together)
    return _board(show_id)


@router.post("/plan-targets/{number}/drop", dependencies=[needs(change=Role.LEAD)])
def drop(store: Store, number: int) -> Any:
    target = drop_target(store, found(store, PlanTarget, number, "target of a plan"))
    return _board(target.show_id)


@router.get("/shows/{show_id}/plan/dry-run")
def dry_run(request: Request, store: Store, show_id: int) -> Any:
    """What a run would do, and nothing done."""
    whole = board(store, get_show(store, show_id))
    return page(request, "plan/dry_run.html", wanted=due(whole), show=whole.show)


@router.post("/shows/{show_id}/runs")
def start(
    request: Request, store: Store, show_id: int, camera: Annotated[list[int] | None, Form()] = None, states: Annotated[list[str] | None, Form()] = None
) -> Any:  # fmt: skip
    """Run what is due: of the whole show, or of the cameras chosen."""
    run = start_run(store, get_show(store, show_id), [s for s in states or DUE if s in DUE], camera)
    ensure_worker(request, True)
    return RedirectResponse(f"/runs/{run.id}", status_code=303)


@router.get("/runs/{number}")
def run(request: Request, store: Store, number: int) -> Any:
    return page(request, "plan/run/index.html", **_run(store, number))


@router.get("/runs/{number}/state")
def run_state(request: Request, store: Store, number: int) -> Any:
    """How far it is; asked for again and again until it is over."""
    told = _run(store, number)
    ensure_worker(request, told["progress"].open)
    return page(request, "plan/run/state.html", **told)


@router.get("/runs/{number}/bundle")
def bundle(request: Request, store: Store, number: int) -> Any:
    """Everything of a run in one zip."""
    return zip_answer(request, everything_of_run(store, found(store, Run, number, "run")))


@router.post("/runs/{number}/stop")
def stop(store: Store, number: int) -> Any:
    stop_run(store, _get(store, number))
    return RedirectResponse(f"/runs/{number}", status_code=303)


@router.post("/runs/{number}/resume")
def resume(request: Request, store: Store, number: int, failed: Annotated[str, Form()] = "") -> Any:
    """What was stopped, or what failed, once more."""
    resume_run(store, _get(store, number), ("failed",) if failed else ("stopped",))
    ensure_worker(request, True)
    return RedirectResponse(f"/runs/{number}", status_code=303)


@router.get("/workers", dependencies=[needs(Role.LEAD)])
def all_workers(request: Request, store: Store) -> Any:
    """Who does the long work, and what is kept that can be made again."""
    return page(request, "plan/workers/index.html", workers=workers(store), kept=kept_of(store))


def _get(store: Context, number: int) -> Run:
    return found(store, Run, number, "run")


def _run(store: Context, number: int) -> dict[str, Any]:
    run = _get(store, number)
    jobs = jobs_of(store, run)
    made = made_by(store, jobs)
    off = {number for number, delivery in made.items() if not delivery.matches}
    warned = {number for number, delivery in made.items() if delivery.matches and not delivery.sound}
    order = {
        s: i for i, s in enumerate(("failed", "off", "warned", "running", "stopping", "waiting", "stopped", "done"))
    }
    jobs.sort(key=lambda j: (order.get("off" if j.id in off else "warned" if j.id in warned else j.state, 9), j.id))
    return {
        "run": run,
        "show": run.show,
        "jobs": jobs[:200],
        "all": len(jobs),
        "made": made,
        "off": len(off),
        "warned": len(warned),
        "worst_px": max((d.max_px for d in made.values()), default=None),
        "progress": progress_of(store, run),
    }


def _runs(store: Context, show: Show) -> list[Any]:
    newest = store.execute(select(Run).where(Run.show_id == show.id).order_by(Run.id.desc()).limit(5)).scalars()
    return [(r, progress_of(store, r)) for r in newest]


def _board(show_id: int) -> RedirectResponse:
    return RedirectResponse(f"/shows/{show_id}/plan", status_code=303)
