"""The table of notices: what has happened in a show that concerns a person."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, UniqueConstraint, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.store.base import Base
from anaxis.store.models import Show
from anaxis.store.people import Person


class Notice(Base):
    """One sentence for one person, with the ``link`` to the page that shows more. Of one ``key`` a person has one notice.

    ``mail`` is "" where none is to be sent, else waiting, sent or given up.
    """

    __tablename__ = "notices"
    belongs_to = "show"
    __table_args__ = (UniqueConstraint("person_id", "key"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"))
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"))
    kind: Mapped[str]
    sentence: Mapped[str]
    link: Mapped[str]
    key: Mapped[str]
    mail: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    read_at: Mapped[datetime | None]
    show: Mapped[Show] = relationship()
    person: Mapped[Person] = relationship()
