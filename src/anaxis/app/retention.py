"""How long what can be made again is kept: made files, proxies, uploads that nobody kept; and what that frees."""

from __future__ import annotations

from datetime import timedelta
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Engine, Select, delete, exists, func, literal_column, select, text, true, union

from anaxis.app.cameras.uploads import old_uploads
from anaxis.app.context import Context
from anaxis.app.exchange.retention import clear_changes
from anaxis.app.keeping import SETTINGS, days_of, kept_from
from anaxis.app.roles import LOCAL
from anaxis.store.base import Base
from anaxis.store.content_rows import Content
from anaxis.store.contents import OWNERS, SIZE, clear_removable, remove_contents, size_of_row
from anaxis.store.exchange import ExchangeChange
from anaxis.store.models import DeliveryFile, Job, MadeFile, Plate, PlateProxy, SourceFile
from anaxis.store.notices import Notice

_IN_HAND = timedelta(hours=1)
# Every column that names content.
_NAMING = (SourceFile.sha256, SourceFile.scene_sha256, DeliveryFile.sha256, *(model.sha256 for model in OWNERS))
_ROWS_AT_ONCE = 1000
# Tables with more rows than this are not counted for the page: PostgreSQL's estimate is shown.
_MOST_COUNTED = 100_000
_ESTIMATE = text("SELECT reltuples::bigint, pg_total_relation_size(oid) FROM pg_class WHERE oid = to_regclass(:name)")


class StoredAmount(NamedTuple):
    """Of one kind: the setting that says how long, how many there are, how large, and what of it would go now (None: not counted).

    ``estimated``: there are so many that number and size are PostgreSQL's estimate for the whole table.
    """

    setting: str
    what: str
    days: int
    number: int
    size: int
    going: int | None = None
    frees: int | None = None
    estimated: bool = False


def kept(context: Context) -> list[StoredAmount]:
    """What is kept that can be made again, by kind."""
    out = []
    for setting, (what, _) in SETTINGS.items():
        model, size, old = _of(setting)
        rows, bytes_ = context.execute(_ESTIMATE, {"name": model.__tablename__}).one()
        # Of source files and notices an index holds the rows of this kind alone, and counting them is cheap.
        if rows > _MOST_COUNTED and model not in (SourceFile, Notice):
            out.append(StoredAmount(setting, what, days_of(setting), rows, bytes_, estimated=True))
            continue
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
        *(exists().where(column == Content.sha256) for column in _NAMING if column.class_ is not SourceFile),
    ]
    size = func.coalesce(func.sum(SIZE), 0)
    return select(size).where(Content.sha256.in_(union(*of)), *(~s for s in stays))


def clear_out(engine: Engine) -> dict[str, int]:
    """Take away what was kept for long enough; how many rows of each kind went."""
    gone = {}
    for setting in SETTINGS:
        if setting == "ANAXIS_KEEP_CHANGES_DAYS":
            gone[setting] = clear_changes(engine, days) if (days := days_of(setting)) else 0
            continue
        model, _, old = _of(setting)
        gone[setting] = _clear(engine, model, old)
    clear_contents(engine)
    clear_removable(engine)
    return gone


def _clear(engine: Engine, model: type[Base], old: ColumnElement[bool]) -> int:
    """Take away rows, some in each transaction, so that nobody waits for long; how many went."""
    gone = 0
    row: ColumnElement[Any] = literal_column(f"{model.__tablename__}.ctid")
    some = select(row).select_from(model).where(old).limit(_ROWS_AT_ONCE).correlate(None)
    while True:
        with Context(engine, LOCAL) as context, context.begin():
            went = int(context.execute(delete(model).where(row.in_(some))).rowcount)  # type: ignore[attr-defined]
        gone += went
        if went < _ROWS_AT_ONCE:
            return gone


def clear_contents(engine: Engine) -> int:
    """Take away the bytes that no file is of any more; those of the last hour may be of one that is being kept."""
    unused = [~exists().where(column == Content.sha256) for column in _NAMING]
    old, gone, last = Content.used_at < func.now() - _IN_HAND, 0, ""
    while True:
        with Context(engine, LOCAL) as context, context.begin():
            some = (
                select(Content.sha256).where(Content.sha256 > last, old).order_by(Content.sha256).limit(_ROWS_AT_ONCE)
            )
            looked_at = list(context.execute(some).scalars())
            if not looked_at:
                return gone
            last = looked_at[-1]
            gone += remove_contents(context, looked_at, old, *unused)


def _all(setting: str) -> ColumnElement[bool]:
    """Which rows of the table are of a kind."""
    if setting == "ANAXIS_KEEP_NOTICES_DAYS":
        return Notice.read_at.is_not(None)
    return ~SourceFile.kept if setting == "ANAXIS_KEEP_UPLOADS_DAYS" else true()


def _of(setting: str) -> tuple[type[Base], ColumnElement[int], ColumnElement[bool]]:
    """The table of a kind, the size of a row, and which rows are old enough to go."""
    before = kept_from(setting)
    if setting == "ANAXIS_KEEP_MADE_DAYS":
        return MadeFile, size_of_row(MadeFile), MadeFile.created_at < before
    if setting == "ANAXIS_KEEP_UPLOADS_DAYS":
        scene = select(SIZE).where(Content.sha256 == SourceFile.scene_sha256)
        return SourceFile, SourceFile.size + scene.scalar_subquery(), old_uploads()
    if setting == "ANAXIS_KEEP_CHANGES_DAYS":
        in_force = (ExchangeChange.created_at < before) & ExchangeChange.sequence.is_not(None)
        return ExchangeChange, func.octet_length(ExchangeChange.data), in_force
    if setting == "ANAXIS_KEEP_NOTICES_DAYS":
        return Notice, func.octet_length(Notice.sentence), Notice.read_at < before
    # A plate's proxies go together: those of plates without work on them since.
    busy = select(Job.params["plate"].as_integer()).where(Job.kind == "proxies", Job.created_at >= before)
    old = select(Plate.id).where(Plate.created_at < before, Plate.id.not_in(busy))
    return PlateProxy, size_of_row(PlateProxy), PlateProxy.plate_id.in_(old)
