"""Cameras made from cameras: made, shown with what they come from, updated, and what is written of them."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response

from anaxis.app.context import Context
from anaxis.app.derived.coverage import best_frames, projections_of
from anaxis.app.derived.derive import (
    Derive,
    bring_up_to_date,
    derive,
    hanging_on,
    outdated_inputs,
    settings_of,
    update_would_change,
    used_version,
)
from anaxis.app.derived.source_ranges import cut_of, range_held_against
from anaxis.app.plates.plates import plates_of
from anaxis.app.shows.remove import bring_back_camera, remove_camera
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.derive import derived_kind
from anaxis.core.derive.held import SHOT
from anaxis.core.derive.joined import Join
from anaxis.core.errors import BadInput
from anaxis.core.scene.projection_name import projection_name
from anaxis.formats.editorial.write import edit_files, edl_refused, render_range, shot_ranges
from anaxis.store.models import Version
from anaxis.store.queries import NotFound, get_camera, get_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.made_from import made_from_svg
from anaxis.web.pages import Store, download_answer, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


def derived_context(store: Context, version: Version, theirs_first: float) -> dict[str, Any]:
    """What the first station shows of a camera that was made from others, and of those made from it."""
    settings = settings_of(version)
    out: dict[str, Any] = {"derived": None, "hanging": hanging_on(store, version.camera)}
    if settings is None or version.derivation is None:
        return out
    late = outdated_inputs(store, version) if version.id == version.camera.head.id else []
    inputs = [(i.role, used_version(i)) for i in version.made_of]
    kind = derived_kind(version.derivation.kind)
    out["derived"] = {
        "kind": kind.label, "words": kind.words(settings), "outdated": late,
        "svg": made_from_svg(version, inputs, late), "settings": settings, "code": kind.code,
    }  # fmt: skip
    if isinstance(settings, Join):
        cut = cut_of(store, version)
        owed = render_range(cut)
        out["derived"] |= {
            "cut": shot_ranges(cut), "owed": owed, "there": [theirs_first, theirs_first + owed["frames"] - 1], "files": list(edit_files(cut)),
            "edl_refused": edl_refused(cut),
        }  # fmt: skip
    return out


@router.get("/{camera_id}/would-change")
def would_change(request: Request, store: Store, camera_id: int, version: int) -> Any:
    """By how many pixels bringing a derived camera up to date would change it."""
    kept = get_version(store, camera_id, version)
    return page(
        request, "derived/would_change.html", found=update_would_change(store, kept), version=kept, camera=kept.camera
    )


@router.post("/{camera_id}/up-to-date")
def up_to_date(store: Store, camera_id: int, version: Annotated[int, Form()], to: Annotated[str, Form()] = "") -> Any:
    made = bring_up_to_date(store, get_version(store, camera_id, version))
    return to_its_page(camera_id, made, to)


@router.get("/{camera_id}/range")
def typed_range(request: Request, store: Store, camera_id: int, version: int, typed: str = "") -> Any:
    """A range typed elsewhere held against the one owed."""
    kept = get_version(store, camera_id, version)
    parts = typed.replace("–", "-").strip()
    first, _, last = parts[1:].partition("-") if parts.startswith("-") else parts.partition("-")
    low, high = (
        number_or_none(f"-{first}" if parts.startswith("-") else first, "the range"),
        number_or_none(last, "the range"),
    )
    if low is None or high is None or not (low.is_integer() and high.is_integer()):
        raise BadInput(f"'{typed[:40]}' is not a range: type its first and last frame, as 1001-1120.")
    return page(request, "derived/range.html", found=range_held_against(kept, int(low), int(high)))


@router.get("/{camera_id}/edit/{name}")
def edit_file(store: Store, camera_id: int, name: str, version: int) -> Response:
    """A joined camera's cut, written back."""
    files = edit_files(cut_of(store, get_version(store, camera_id, version)))
    if name not in files:
        raise NotFound(f"There is no file {name[:80]} of this cut: choose one of {', '.join(files)}.")
    return download_answer(name, files[name])


# One made from another


@router.get("/{camera_id}/derive")
def make_one(request: Request, store: Store, camera_id: int, version: int | None = None, at: str = "") -> Any:
    """The page where a camera is held at a frame, or framed in the sphere of its plate."""
    kept = get_version(store, camera_id, version)
    track, marks, lines = track_of(kept)
    spheres = [p for p in plates_of(store, kept.camera.shot) if p.kind == "equirectangular"]
    return page(
        request, "derived/index.html", version=kept, camera=kept.camera, shot=kept.camera.shot, track=track, marks=marks, lines=len(lines),
        spheres=spheres, at=number_or_none(at, "the frame"), held=projections_of(store, kept.camera), suggested=projection_name(kept.camera.name, track.frames[0]),
    )  # fmt: skip


@router.get("/{camera_id}/best-frames")
def best(request: Request, store: Store, camera_id: int, version: int) -> Any:
    """The frames to hold a camera at that would cover most of its shot."""
    kept = get_version(store, camera_id, version)
    return page(request, "derived/best.html", best=best_frames(store, kept), version=kept, camera=kept.camera)


@router.post("/{camera_id}/hold")
def hold(
    store: Store, camera_id: int, version: Annotated[int, Form()], at: Annotated[str, Form()] = "", overscan: Annotated[str, Form()] = "",
    name: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    kept = get_version(store, camera_id, version)
    frames = [number_or_none(f, "the frame") for f in at.replace(";", ",").split(",")]
    wanted = [f for f in frames if f is not None]
    if not wanted:
        raise BadInput("Type a frame, or several separated by commas.")
    made = [_held(store, kept, f, overscan.strip(), name.strip() if len(wanted) == 1 else "") for f in wanted]
    return RedirectResponse(f"/cameras/{made[-1].camera_id}?station=take-in", status_code=303)


def _held(store: Context, kept: Version, at: float, overscan: str, name: str) -> Version:
    asked = Derive(
        kind="held", show=kept.camera.shot.show.name, shot=kept.camera.shot.name, name=name or projection_name(kept.camera.name, at),
        settings={"at": at, "overscan": overscan}, inputs={SHOT: kept.id},
    )  # fmt: skip
    return derive(store, asked)


# Off the lists and back


@router.post("/{camera_id}/remove")
def remove(store: Store, camera_id: int, even_so: Annotated[str, Form()] = "") -> Any:
    remove_camera(store, get_camera(store, camera_id), bool(even_so))
    return RedirectResponse("/", status_code=303)


@router.post("/{camera_id}/bring-back")
def bring_back(store: Store, camera_id: int) -> Any:
    bring_back_camera(store, get_camera(store, camera_id))
    return RedirectResponse(f"/cameras/{camera_id}", status_code=303)


def to_its_page(camera_id: int, made: Version, to: str) -> RedirectResponse:
    """To the page of a camera that was made anew."""
    return RedirectResponse(f"/cameras/{camera_id}?version={made.number}&to={to}&station=take-in", status_code=303)
