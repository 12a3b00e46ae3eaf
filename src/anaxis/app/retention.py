"""How long what can be made again is kept: made files, proxies, uploads that nobody kept; and what that frees."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Engine, Select, delete, exists, func, select, true, union

from anaxis.app.context import Context
from anaxis.app.exchange.retention import clear_changes
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.store.exchange import Recording, SharedChange
from anaxis.store.models import Content, DeliveryFile, Job, MadeFile, Plate, PlateProxy, SourceFile

# Days by setting; a setting of 0 keeps for ever.
SETTINGS = {
    "ANAXIS_KEEP_MADE_DAYS": ("zips and other made files", 14),
    "ANAXIS_KEEP_PROXIES_DAYS": ("proxies of plates nobody looks at any more", 30),
    "ANAXIS_KEEP_UPLOADS_DAYS": ("uploads that were not kept", 7),
    "ANAXIS_KEEP_CHANGES_DAYS": ("changes of packages' cameras; what these hold stays", 30),
}


_IN_HAND = timedelta(hours=1)


class StoredAmount(NamedTuple):
    """Of one kind: the setting that says how long, how many there are, how large, and what of it would go now."""

    setting: str
    what: str
    days: int
    number: int
    size: int
    going: int
    frees: int


def days_of(setting: str) -> int:
    """Raises BadInput for a setting that is no number of days."""
    given = os.environ.get(setting, "").strip()
    if not given:
        return SETTINGS[setting][1]
    if not given.isdigit() or int(given) > 36_500:
        raise BadInput(f"{setting} is '{given[:40]}': write a number of days, 0 to keep for ever.")
    return int(given)


def kept(context: Context) -> list[StoredAmount]:
    """What is kept that can be made again, by kind."""
    out = []
    for setting, (what, _) in SETTINGS.items():
        model, size, old = _of(setting)
        count, whole = context.execute(
            select(func.count(), func.coalesce(func.sum(size), 0)).select_from(model).where(_all(setting))
        ).one()
        gone, frees = context.execute(
            select(func.count(), func.coalesce(func.sum(size), 0)).select_from(model).where(old)
        ).one()
        if model is SourceFile:
            frees = context.execute(_bytes_only_of(old)).scalar_one()
        out.append(StoredAmount(setting, what, days_of(setting), count, int(whole), gone, int(frees)))
    return out


def _bytes_only_of(going: ColumnElement[bool]) -> Select[Any]:
    """The size of the bytes that no file is of but those source files."""
    of = [select(column).where(going) for column in (SourceFile.sha256, SourceFile.scene_sha256)]
    stays = [
        exists().where(SourceFile.sha256 == Content.sha256, ~going),
        exists().where(SourceFile.scene_sha256 == Content.sha256, ~going),
        exists().where(DeliveryFile.sha256 == Content.sha256),
    ]
    size = func.coalesce(func.sum(func.octet_length(Content.data)), 0)
    return select(size).where(Content.sha256.in_(union(*of)), *(~s for s in stays))


def clear_out(engine: Engine) -> dict[str, int]:
    """Take away what was kept for long enough; how many rows of each kind went."""
    gone = {}
    for setting in SETTINGS:
        if setting == "ANAXIS_KEEP_CHANGES_DAYS":
            gone[setting] = clear_changes(engine, days) if (days := days_of(setting)) else 0
            continue
        model, _, old = _of(setting)
        with Context(engine, LOCAL) as context, context.begin():  # each kind by itself: none waits for another
            gone[setting] = int(context.execute(delete(model).where(old)).rowcount)  # type: ignore[attr-defined]
    clear_contents(engine)
    return gone


def clear_contents(engine: Engine) -> int:
    """Take away the bytes that no file is of any more; those of the last hour may be of one that is being kept."""
    named = (SourceFile.sha256, SourceFile.scene_sha256, DeliveryFile.sha256)
    unused = [~exists().where(column == Content.sha256) for column in named]
    with Context(engine, LOCAL) as context, context.begin():
        return int(
            context.execute(delete(Content).where(*unused, Content.used_at < func.now() - _IN_HAND)).rowcount  # type: ignore[attr-defined]
        )


def clear_uploads(context: Context) -> None:
    """The same of uploads alone, with the next one: a server without a worker that runs on is not filled up."""
    context.execute(delete(SourceFile).where(_of("ANAXIS_KEEP_UPLOADS_DAYS")[2]))


def _all(setting: str) -> ColumnElement[bool]:
    return ~SourceFile.kept if setting == "ANAXIS_KEEP_UPLOADS_DAYS" else true()


def _of(setting: str) -> tuple[type, ColumnElement[int], ColumnElement[bool]]:
    """The table of a kind, the size of a row, and which rows are old enough to go."""
    days = days_of(setting)
    before = datetime.now(UTC) - timedelta(days=days) if days else datetime(1970, 1, 1, tzinfo=UTC)
    if setting == "ANAXIS_KEEP_MADE_DAYS":
        return MadeFile, func.octet_length(MadeFile.data), MadeFile.created_at < before
    if setting == "ANAXIS_KEEP_UPLOADS_DAYS":
        recorded = exists().where(Recording.source_file_id == SourceFile.id)
        scene = select(func.octet_length(Content.data)).where(Content.sha256 == SourceFile.scene_sha256)
        return (
            SourceFile,
            SourceFile.size + scene.scalar_subquery(),
            ~SourceFile.kept & (SourceFile.created_at < before) & ~recorded,
        )
    if setting == "ANAXIS_KEEP_CHANGES_DAYS":
        in_force = (SharedChange.created_at < before) & SharedChange.effect.is_not(None)
        return SharedChange, func.octet_length(SharedChange.data), in_force
    # A plate's proxies go together: those of plates without work on them since.
    busy = select(Job.params["plate"].as_integer()).where(Job.kind == "proxies", Job.created_at >= before)
    old = select(Plate.id).where(Plate.created_at < before, Plate.id.not_in(busy))
    return PlateProxy, func.octet_length(PlateProxy.data), PlateProxy.plate_id.in_(old)
