"""Which shows a media root is open to."""

from __future__ import annotations

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.store.base import Base
from anaxis.store.models import Show


class MediaRootShow(Base):
    """A media root, by its name in the settings, is open to a show."""

    __tablename__ = "media_root_shows"
    belongs_to = "show"
    __table_args__ = (UniqueConstraint("root", "show_id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    root: Mapped[str]
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), index=True)
    show: Mapped[Show] = relationship()

    @property
    def name(self) -> str:
        return f"{self.root}, for {self.show.name}"
