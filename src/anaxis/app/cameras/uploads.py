"""Files that were handed in and that nobody kept."""

from __future__ import annotations

from sqlalchemy import ColumnElement, delete, exists

from anaxis.app.context import Context
from anaxis.app.keeping import kept_from
from anaxis.store.exchange import Recording
from anaxis.store.models import SourceFile


def old_uploads() -> ColumnElement[bool]:
    """The files that nobody kept in time, and that no recording was made of."""
    recorded = exists().where(Recording.source_file_id == SourceFile.id)
    return ~SourceFile.kept & (SourceFile.created_at < kept_from("ANAXIS_KEEP_UPLOADS_DAYS")) & ~recorded


def clear_uploads(context: Context) -> None:
    """Take them away as the next one comes: a server without a worker that runs on is not filled up."""
    context.execute(delete(SourceFile).where(old_uploads()))
