"""Tables of webhooks: whom to tell, and what was told."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import ForeignKey, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.store.base import Base
from anaxis.store.models import Show


class Webhook(Base):
    """An address that is told of ``events`` of a show; what it is sent is signed with its ``secret``.

    ``failures`` counts the tries in a row that it did not take; after too many it is paused until somebody resumes it.
    """

    __tablename__ = "webhooks"
    belongs_to = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), index=True)
    url: Mapped[str]
    events: Mapped[list[Any]]
    secret: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    removed_at: Mapped[datetime | None]
    owner: Mapped[str] = mapped_column(default="")
    failures: Mapped[int] = mapped_column(default=0)
    paused_at: Mapped[datetime | None]
    show: Mapped[Show] = relationship()

    @property
    def name(self) -> str:
        """The address without what may be secret in it."""
        split = urlsplit(self.url)
        return f"{split.scheme}://{split.netloc.rpartition('@')[2]}{split.path}"


class WebhookCall(Base):
    """One thing told to one address: ``state`` is waiting, sent or given up; ``said`` why the last try failed."""

    __tablename__ = "webhook_calls"
    belongs_to = "webhook"
    id: Mapped[int] = mapped_column(primary_key=True)
    webhook_id: Mapped[int] = mapped_column(ForeignKey("webhooks.id"), index=True)
    event: Mapped[str]
    about: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(default="waiting")
    tries: Mapped[int] = mapped_column(default=0)
    said: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    ended_at: Mapped[datetime | None]
    webhook: Mapped[Webhook] = relationship(lazy="joined")
