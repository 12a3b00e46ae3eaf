"""The Live page: packages and trackers that are connected, two of their cameras side by side, links between them."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from sqlalchemy import select

from anaxis.app.exchange.across import Across, write_across
from anaxis.app.exchange.clients import clients_of, is_there, take_off
from anaxis.app.exchange.links import LinkAsked, clashes_in, frames_words, link, newest_changes, settle, stop
from anaxis.app.exchange.passing import RULES
from anaxis.app.exchange.recordings import open_recording, recordings_of, start_recording, stop_recording
from anaxis.app.exchange.takes import Pull, Push, changed_groups, keep_moment, pull, push
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.errors import BadInput
from anaxis.packages.package_values import GROUP_WORDS
from anaxis.store.exchange import Clash, Client, Link, Pulled, Recording, RemoteCamera
from anaxis.store.models import Camera, Show, Version
from anaxis.store.queries import found, get_show
from anaxis.web.access import needs
from anaxis.web.pages import Store, TypedForm, drawing_answer, page, row_number
from anaxis.web.screens.live.shown import drawing_of, pair_of

router = APIRouter(dependencies=[needs()])


@router.get("/shows/{show_id}/live")
def live(request: Request, store: Store, show_id: int, a: int | None = None, b: int | None = None) -> Any:
    return page(
        request,
        "live/index.html",
        **(context := _context(store, get_show(store, show_id), a, b)),
        changed={number: _changed(store, number, back) for number, back in context["back"].items()},
        server=str(request.base_url).rstrip("/"),
    )


@router.get("/shows/{show_id}/live/state")
def state(request: Request, store: Store, show_id: int, a: int | None = None, b: int | None = None) -> Any:
    """What changes by itself: who is there, what the link has done, clashes, recordings."""
    return page(request, "live/state.html", **_context(store, get_show(store, show_id), a, b))


@router.get("/shows/{show_id}/live/drawing")
def drawing(store: Store, show_id: int, a: int | None = None, b: int | None = None) -> Response:
    return drawing_answer(drawing_of(store, pair_of(store, get_show(store, show_id), a, b)), kept=False)


def _context(store: Store, show: Show, a: int | None, b: int | None) -> dict[str, Any]:
    pair = pair_of(store, show, a, b)
    clients = clients_of(store, show)
    sheets = [s for s in (pair.left, pair.right) if s is not None]
    return {
        "show": show, "pair": pair, "clients": clients, "is_there": is_there,
        "clashes": [(c, frames_words(c.frames)) for c in clashes_in(store, show)],
        "changes": newest_changes(store, pair.link) if pair.link is not None else [], "groups": GROUP_WORDS, "rules": RULES,
        "trackers": [(p, open_recording(store, p)) for p in clients if p.kind == "tracker"], "recordings": recordings_of(store, show.id),
        "back": {s.remote.id: _to_write_back(store, s.remote) for s in sheets if s.remote is not None},
    }  # fmt: skip


def _to_write_back(store: Store, remote: RemoteCamera) -> tuple[Version, bool] | None:
    """The version here of a package's camera, and whether it was worked on since it was pulled."""
    camera = store.get(Camera, remote.camera_id) if remote.camera_id is not None else None
    if camera is None or camera.head_id is None:
        return None
    known = select(Pulled.version_id).where(Pulled.version_id == camera.head_id, Pulled.remote_id == remote.id)
    return camera.head, store.execute(known).first() is None


def _changed(store: Store, number: int, back: tuple[Version, bool] | None) -> list[str] | None:
    """The channels that a version would write to a package's camera; None where that cannot be known."""
    if back is None:
        return None
    try:
        return changed_groups(store, back[0], found(store, RemoteCamera, number, "camera of a package"))
    except BadInput:
        return None


def _back(show_id: int, a: int | None = None, b: int | None = None) -> RedirectResponse:
    asked = "&".join(f"{k}={v}" for k, v in (("a", a), ("b", b)) if v)
    return RedirectResponse(f"/shows/{show_id}/live{'?' + asked if asked else ''}", 303)


def _number(typed: dict[str, str], name: str) -> int | None:
    return row_number(typed.get(name, ""))


def _timed(typed: TypedForm) -> dict[str, bool]:
    """How frames go to a camera of another rate."""
    return {key: typed.get("timing") == key for key in ("frame_for_frame", "by_time")}


def _ticked(typed: dict[str, str], before: str = "group-") -> list[str]:
    return [k.removeprefix(before) for k in typed if k.startswith(before)]


@router.post("/remote/{number}/pull")
def pull_camera(
    store: Store, number: int, shot: Annotated[str, Form()] = "", camera: Annotated[str, Form()] = ""
) -> Any:
    version = pull(store, found(store, RemoteCamera, number, "camera of a package"), Pull(shot=shot, camera=camera))
    return RedirectResponse(f"/cameras/{version.camera_id}", 303)


@router.post("/remote/{number}/write-back")
def write_back(store: Store, number: int, typed: TypedForm) -> Any:
    """The version here, to where it came from: what was changed here, in the channels chosen."""
    remote = found(store, RemoteCamera, number, "camera of a package")
    if remote.camera is None:
        raise BadInput(f"{remote.called} was never pulled, so it has no version in Anaxis.")
    push(store, remote.camera.head, Push(remote=remote.id, groups=_ticked(typed), both=typed.get("both", "ask")))
    return _back(remote.client.show_id, _number(typed, "a"), _number(typed, "b"))


@router.post("/shows/{show_id}/live/across")
def across(store: Store, show_id: int, typed: TypedForm) -> Any:
    """Push what one side holds to the other, once."""
    source = found(store, RemoteCamera, _number(typed, "source") or 0, "camera of a package")
    new = row_number(typed.get("to", "").removeprefix("new-")) if typed.get("to", "").startswith("new-") else None
    to = write_across(
        store, Across(source=source.id, to=_number(typed, "to"), client=new, groups=_ticked(typed),
                      **_timed(typed), same_numbers=typed.get("numbers") == "same"),
    )  # fmt: skip
    swapped = _number(typed, "b") == source.id
    return _back(show_id, to.id if swapped else source.id, source.id if swapped else to.id)


@router.post("/shows/{show_id}/live/push")
def push_version(store: Store, show_id: int, version_id: Annotated[int, Form()], client: Annotated[int, Form()]) -> Any:
    """A camera of the show, as a new one of a package."""
    push(store, found(store, Version, version_id, "version"), Push(client=found(store, Client, client, "package").id))
    return _back(show_id)


@router.post("/shows/{show_id}/live/link")
def make_link(store: Store, show_id: int, typed: TypedForm) -> Any:
    every = number_or_none(typed.get("every", ""), "seconds from one version to the next")
    row = link(
        store,
        LinkAsked(
            first=_number(typed, "first") or 0, second=_number(typed, "second") or 0, both_ways=typed.get("way") == "both", rule=typed.get("rule", "ask"),
            groups=_ticked(typed), every_s=round(every or 0), follow="follow" in typed, **_timed(typed),
            same_numbers=typed.get("numbers") == "same",
        ),
    )  # fmt: skip
    return _back(show_id, row.first_id, row.second_id)


@router.post("/links/{number}/stop")
def stop_link(store: Store, number: int) -> Any:
    """Both sides keep what they hold; what the first holds is kept as a version, where it is known as which camera."""
    row = stop(store, found(store, Link, number, "link"))
    if row.first.camera_id is not None:
        keep_moment(store, row, f"kept when the link was stopped ({row.name})")
    return _back(row.show_id, row.first_id, row.second_id)


@router.post("/links/{number}/moment")
def moment(store: Store, number: int) -> Any:
    row = found(store, Link, number, "link")
    keep_moment(store, row, f"saved by hand while linked ({row.name})")
    return _back(row.show_id, row.first_id, row.second_id)


@router.post("/clashes/{number}/settle")
def settle_clash(store: Store, number: int, keep: Annotated[str, Form()]) -> Any:
    clash = settle(store, found(store, Clash, number, "clash"), keep)
    ends = (clash.link.first_id, clash.link.second_id) if clash.link is not None else (clash.remote_id, None)
    return _back(clash.show_id, *ends)


@router.post("/clients/{number}/record")
def record(store: Store, number: int, name: Annotated[str, Form()] = "") -> Any:
    return _back(start_recording(store, found(store, Client, number, "tracker"), name).show_id)


@router.post("/clients/{number}/take-off")
def take_party_off(store: Store, number: int) -> Any:
    return _back(take_off(store, found(store, Client, number, "package")).show_id)


@router.post("/recordings/{number}/stop")
def stop_record(store: Store, number: int) -> Any:
    return _back(stop_recording(store, found(store, Recording, number, "recording")).show_id)
