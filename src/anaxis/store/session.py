"""A transaction of the store, and whose rows its queries see.

Rows of a show are seen by a session that says so: a plain session of SQLAlchemy sees none of them, in any query.
"""

from __future__ import annotations

from functools import cache, lru_cache
from typing import Any, Final

from sqlalchemy import Connection, Engine, event, false, or_, select
from sqlalchemy.orm import ORMExecuteState, Session, with_loader_criteria
from sqlalchemy.sql.base import ExecutableOption

from anaxis.store import exchange, hooks, media, people  # noqa: F401  (their tables, beside those of models)
from anaxis.store.base import Base
from anaxis.store.models import HistoryEntry, HistoryWord, Package, SavedFilmBack, SavedLayout, SavedRecipe, Show

# The shows whose rows a session sees, by number; None for all of them.
Shows = frozenset[int] | None
EVERY_SHOW: Final[Shows] = None
_NO_SHOW: Final[Shows] = frozenset()
# History entries about these, which are of no show, everybody may read.
_EVERYBODYS = tuple(t.__tablename__ for t in (Package, SavedRecipe, SavedLayout, SavedFilmBack))


class StoreSession(Session):
    """A session that sees the rows of ``shows`` and writes the name of ``actor_name`` into what it keeps."""

    def __init__(self, engine: Engine | Connection, shows: Shows, actor_name: str = "local", **options: Any) -> None:
        super().__init__(engine, **options)
        self.shows, self.actor_name = shows, actor_name


def every_show(engine: Engine) -> StoreSession:
    """A session for the store's own bookkeeping, which is of every show: queue, workers, retention, counts."""
    return StoreSession(engine, EVERY_SHOW)


@cache
def _of_a_show() -> tuple[tuple[type[Base], str, type[Base]], ...]:
    """Every class of rows that are of a show, with the name of its key and the class that the key leads to, owners first."""
    found: dict[type[Base], tuple[type[Base], str, type[Base]]] = {}

    def add(model: type[Base]) -> None:
        if not model.belongs_to or model in found:
            return
        relation = model.__mapper__.relationships[model.belongs_to]
        add(relation.mapper.class_)
        (column,) = relation.local_columns
        found[model] = (model, model.__mapper__.get_property_by_column(column).key, relation.mapper.class_)

    for mapper in Base.registry.mappers:
        add(mapper.class_)
    return tuple(found.values())


@lru_cache(maxsize=256)
def _criteria(shows: frozenset[int]) -> tuple[ExecutableOption, ...]:
    """What leaves the rows of other shows out of a query; the same for every query of whoever sees these."""
    numbers = sorted(shows)
    seen: dict[type[Base], Any] = {Show: numbers}
    criteria = [with_loader_criteria(Show, Show.id.in_(numbers), include_aliases=True)]
    for model, key, owner in _of_a_show():
        criteria.append(with_loader_criteria(model, getattr(model, key).in_(seen[owner]), include_aliases=True))
        table = model.__table__.c
        if "id" in table:
            seen[model] = select(table.id).where(table[key].in_(seen[owner]) if numbers else false())
    told = or_(HistoryEntry.kind.in_(_EVERYBODYS), HistoryEntry.show_id.in_(numbers))
    criteria.append(with_loader_criteria(HistoryEntry, told, include_aliases=True))
    criteria.append(with_loader_criteria(HistoryWord, HistoryWord.show_id.in_([0, *numbers]), include_aliases=True))
    return tuple(criteria)


@event.listens_for(Session, "do_orm_execute")
def _only_rows_of_its_shows(state: ORMExecuteState) -> None:
    shows: Shows = getattr(state.session, "shows", _NO_SHOW)
    if shows is not None and state.is_select and not state.is_column_load:
        state.statement = state.statement.options(*_criteria(shows))
