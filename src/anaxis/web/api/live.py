"""Packages that are connected: what they hold, pulled, pushed, linked, recorded."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field
from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.app.documents import VersionDocument
from anaxis.app.exchange.across import Across, write_across
from anaxis.app.exchange.clients import clients_of, is_there, take_off
from anaxis.app.exchange.links import LinkAsked, clashes_in, link, settle, stop
from anaxis.app.exchange.recordings import keep_recording, recordings_of, settings_of, start_recording, stop_recording
from anaxis.app.exchange.takes import Pull, Push, keep_moment, pull, push
from anaxis.app.exchange.together import resampling_cost
from anaxis.store.exchange import Clash, Client, Link, Recording, RemoteCamera
from anaxis.store.queries import get_show, get_version
from anaxis.store.rows import found
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store

router = interface_router("live")


class RemoteCameraDocument(BaseModel):
    id: int
    name: str
    first: float
    last: float
    rate: str
    kept_as: int | None = Field(description="The camera that its takes are saved as.")


class ClientDocument(BaseModel):
    id: int
    kind: str
    name: str
    connected: bool
    selected: str | None
    cameras: list[RemoteCameraDocument]


class LinkDocument(BaseModel):
    id: int
    first: int
    second: int
    both_ways: bool
    rule: str
    groups: list[str]
    follow: bool
    stopped: bool
    by_time: bool = Field(description="Whether the first camera is resampled to the second one's rate.")
    resampling_max_px: float | None = Field(description="The largest deviation that resampling costs, in pixels.")
    resampling_worst_frame: float | None = Field(description="The frame of the first camera with that deviation.")

    @classmethod
    def of(cls, store: Context, row: Link) -> LinkDocument:
        cost = resampling_cost(store, row)
        return cls(
            id=row.id, first=row.first_id, second=row.second_id, both_ways=row.both_ways, rule=row.rule, groups=row.groups, follow=row.follow,
            stopped=row.stopped_at is not None, by_time=row.scale is not None, resampling_max_px=cost.max_px if cost else None,
            resampling_worst_frame=cost.worst_frame if cost else None,
        )  # fmt: skip


class ClashDocument(BaseModel):
    """A conflict: values that both sides changed."""

    id: int
    remote: int
    link: int | None
    groups: list[str]
    frames: list[float]
    chosen: str


class RecordingDocument(BaseModel):
    id: int
    name: str
    samples: int
    over: bool
    kept_as: int | None

    @classmethod
    def of(cls, row: Recording) -> RecordingDocument:
        return cls(
            id=row.id, name=row.name, samples=row.samples, over=row.stopped_at is not None, kept_as=row.camera_id
        )


class LiveDocument(BaseModel):
    clients: list[ClientDocument]
    links: list[LinkDocument]
    clashes: list[ClashDocument]
    recordings: list[RecordingDocument]


class Settled(BaseModel):
    keep: Literal["here", "sent"] = Field(
        description="'here' keeps the values of the package, 'sent' the values sent to it."
    )


class Why(BaseModel):
    why: Name = "saved by hand"


def _remote(row: RemoteCamera) -> RemoteCameraDocument:
    return RemoteCameraDocument(
        id=row.id, name=row.name, first=row.first, last=row.last, rate=row.rate, kept_as=row.camera_id
    )


def _clash(row: Clash) -> ClashDocument:
    return ClashDocument(
        id=row.id, remote=row.remote_id, link=row.link_id, groups=row.groups, frames=row.frames, chosen=row.chosen
    )


@router.get("/shows/{show_id}/live")
def live(store: Store, show_id: Number) -> LiveDocument:
    """List connected packages, links and open conflicts of a show."""
    show = get_show(store, show_id)
    clients = [
        ClientDocument(
            id=c.id, kind=c.kind, name=c.name, connected=is_there(c), selected=c.selected, cameras=[_remote(r) for r in c.cameras if r.gone_at is None]
        )
        for c in clients_of(store, show)
    ]  # fmt: skip
    links = store.execute(
        select(Link).where(Link.show_id == show.id, Link.stopped_at.is_(None)).order_by(Link.id)
    ).scalars()
    return LiveDocument(
        clients=clients, links=[LinkDocument.of(store, k) for k in links], clashes=[_clash(c) for c in clashes_in(store, show)],
        recordings=[RecordingDocument.of(r) for r in recordings_of(store, show.id)],
    )  # fmt: skip


@router.post("/remote/{number}/pull", status_code=201)
def pulled(store: Store, number: Number, asked: Pull) -> VersionDocument:
    """Pull a camera from a package as the next take."""
    return VersionDocument.of(pull(store, found(store, RemoteCamera, number, "camera of a package"), asked))


@router.post("/cameras/{camera_id}/push")
def pushed(store: Store, camera_id: Number, asked: Push, version: Number | None = None) -> RemoteCameraDocument:
    """Push a version to a package, into one of its cameras or as a new one."""
    return _remote(push(store, get_version(store, camera_id, version), asked))


@router.post("/remote/{number}/write", status_code=200)
def written_across(store: Store, number: Number, asked: Across) -> RemoteCameraDocument:
    """Push a camera from one package to another once."""
    found(store, RemoteCamera, number, "camera of a package")
    return _remote(write_across(store, asked.model_copy(update={"source": number})))


@router.post("/shows/{show_id}/links", status_code=201)
def linked(store: Store, show_id: Number, asked: LinkAsked) -> LinkDocument:
    """Link two cameras."""
    get_show(store, show_id)
    return LinkDocument.of(store, link(store, asked))


@router.delete("/links/{number}")
def link_stopped(store: Store, number: Number) -> LinkDocument:
    return LinkDocument.of(store, stop(store, found(store, Link, number, "link")))


@router.post("/links/{number}/versions", status_code=201)
def moment_kept(store: Store, number: Number, asked: Why) -> VersionDocument:
    """Save the first camera of a link as a version."""
    return VersionDocument.of(keep_moment(store, found(store, Link, number, "link"), asked.why))


@router.post("/clashes/{number}")
def clash_settled(store: Store, number: Number, asked: Settled) -> ClashDocument:
    return _clash(settle(store, found(store, Clash, number, "clash"), asked.keep))


@router.delete("/clients/{number}")
def client_removed(store: Store, number: Number) -> dict[str, str]:
    """Remove a disconnected package from the list."""
    return {"removed": take_off(store, found(store, Client, number, "package")).name}


@router.post("/clients/{number}/recordings", status_code=201)
def recording_begun(store: Store, number: Number, name: Name = "") -> RecordingDocument:
    """Start a recording of a tracker."""
    return RecordingDocument.of(start_recording(store, found(store, Client, number, "tracker"), name))


@router.post("/recordings/{number}/stop")
def recording_stopped(store: Store, number: Number) -> RecordingDocument:
    return RecordingDocument.of(stop_recording(store, found(store, Recording, number, "recording")))


@router.post("/recordings/{number}/keep", status_code=201)
def recording_kept(store: Store, number: Number, asked: dict[str, object]) -> VersionDocument:
    """Save a recording as a camera. docs/exchange.md describes the settings."""
    return VersionDocument.of(keep_recording(store, found(store, Recording, number, "recording"), settings_of(asked)))
