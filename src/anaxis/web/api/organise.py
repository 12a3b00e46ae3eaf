"""Shows and shots put in order: names, places, what a shot should be, what is off the lists."""

from __future__ import annotations

from pydantic import BaseModel, Field

from anaxis.app.cameras.names import archive, bring_back, move_shot, rename
from anaxis.app.documents import ShotDocument, ShowDocument
from anaxis.app.shows.expected import expect
from anaxis.core.time.rates import parse_rate
from anaxis.store.models import Shot, Show
from anaxis.store.queries import get_show
from anaxis.store.rows import found
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store

router = interface_router("shows")


class ShowChange(BaseModel):
    """Fields left out stay unchanged."""

    name: Name | None = None
    archived: bool | None = Field(None, description="True to archive, false to restore.")


class ShotChange(ShowChange):
    show: Number | None = Field(None, description="The number of the show it moves into.")


class ShotExpected(BaseModel):
    """Expected frame range and rate; null if not set."""

    first_frame: float | None = None
    last_frame: float | None = None
    rate: Name | None = Field(None, examples=["24000/1001"])


def _changed(store: Store, row: Show | Shot, asked: ShowChange) -> None:
    if asked.name is not None:
        rename(store, row, asked.name)
    if asked.archived is not None:
        (archive if asked.archived else bring_back)(store, row)
    store.flush()


@router.patch("/shows/{show_id}")
def show_changed(store: Store, show_id: Number, asked: ShowChange) -> ShowDocument:
    held = get_show(store, show_id)
    _changed(store, held, asked)
    return ShowDocument.of(held)


@router.patch("/shots/{shot_id}")
def shot_changed(store: Store, shot_id: Number, asked: ShotChange) -> ShotDocument:
    held = found(store, Shot, shot_id, "shot")
    if asked.show is not None:
        move_shot(store, held, get_show(store, asked.show))
        store.flush()
    _changed(store, held, asked)
    return ShotDocument.of(held)


@router.put("/shots/{shot_id}/expected")
def shot_expected(store: Store, shot_id: Number, asked: ShotExpected) -> ShotDocument:
    """Set the expected range and rate of a shot; cameras are checked against them."""
    rate = parse_rate(asked.rate) if asked.rate else None
    return ShotDocument.of(
        expect(store, found(store, Shot, shot_id, "shot"), asked.first_frame, asked.last_frame, rate)
    )
