"""What somebody sees who has a role in some shows only: rows of all others are not there for them, in any query."""

from __future__ import annotations

from typing import Any

from sqlalchemy import and_, event, false, or_, select
from sqlalchemy.orm import ORMExecuteState, Session, with_loader_criteria

from anaxis.store.exchange import Clash, Link, Party, Pulled, Recording, RecordingBlock, Shared, SharedChange
from anaxis.store.hooks import Webhook
from anaxis.store.media import MediaRootShow
from anaxis.store.models import (
    Base,
    Camera,
    Delivery,
    DeliveryFile,
    HistoryEntry,
    Job,
    Package,
    PlanTarget,
    Plate,
    PlateProxy,
    Return,
    Run,
    SavedFilmBack,
    SavedLayout,
    SavedRecipe,
    Shot,
    Show,
    Still,
    Version,
)

# The key in a session's ``info``: the numbers of the shows that may be seen; None, or none set, for all.
SHOWS = "shows_seen"
# What is told of these, which are of no show, everybody may read.
_EVERYBODYS = tuple(t.__tablename__ for t in (Package, SavedRecipe, SavedLayout, SavedFilmBack))


@event.listens_for(Session, "do_orm_execute")
def _seen_alone(state: ORMExecuteState) -> None:
    shows: frozenset[int] | None = state.session.info.get(SHOWS)
    if shows is None or not state.is_select or state.is_column_load:
        return
    in_shows = list(shows)
    shots, parties, recordings, links, clashes = (
        select(of.__table__.c.id).where(of.__table__.c.show_id.in_(in_shows) if in_shows else false())
        for of in (Shot, Party, Recording, Link, Clash)
    )
    cameras = select(Camera.__table__.c.id).where(Camera.__table__.c.shot_id.in_(shots))
    versions = select(Version.__table__.c.id).where(Version.__table__.c.camera_id.in_(cameras))
    deliveries = select(Delivery.__table__.c.id).where(Delivery.__table__.c.version_id.in_(versions))
    plates = select(Plate.__table__.c.id).where(Plate.__table__.c.shot_id.in_(shots))
    about: dict[type[Base], Any] = {
        Show: in_shows,
        Shot: shots,
        Camera: cameras,
        Version: versions,
        Delivery: deliveries,
        Plate: plates,
        Party: parties,
        Recording: recordings,
        Shared: select(Shared.__table__.c.id).where(Shared.__table__.c.party_id.in_(parties)),
        Link: links,
        Clash: clashes,
    }
    told = [and_(HistoryEntry.kind == t.__tablename__, HistoryEntry.about_id.in_(ids)) for t, ids in about.items()]
    state.statement = state.statement.options(
        with_loader_criteria(HistoryEntry, or_(HistoryEntry.kind.in_(_EVERYBODYS), *told), include_aliases=True),
        with_loader_criteria(Show, Show.id.in_(in_shows), include_aliases=True),
        *(
            with_loader_criteria(of, of.show_id.in_(in_shows), include_aliases=True)
            for of in (Shot, Run, PlanTarget, Webhook, MediaRootShow, Party, Link, Clash, Recording)
        ),
        *(with_loader_criteria(of, of.shot_id.in_(shots), include_aliases=True) for of in (Camera, Plate)),
        with_loader_criteria(Version, Version.camera_id.in_(cameras), include_aliases=True),
        *(
            with_loader_criteria(of, of.version_id.in_(versions), include_aliases=True)
            for of in (Delivery, Return, Still, Job, Pulled)
        ),
        *(with_loader_criteria(of, of.party_id.in_(parties), include_aliases=True) for of in (Shared, SharedChange)),
        with_loader_criteria(RecordingBlock, RecordingBlock.recording_id.in_(recordings), include_aliases=True),
        with_loader_criteria(DeliveryFile, DeliveryFile.delivery_id.in_(deliveries), include_aliases=True),
        with_loader_criteria(PlateProxy, PlateProxy.plate_id.in_(plates), include_aliases=True),
    )
