"""Tables of stored bytes: content by its checksum, the places outside the database, and rows that have bytes of their own."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey, UniqueConstraint, func
from sqlalchemy.orm import Mapped, declared_attr, mapped_column, relationship

from anaxis.store.base import Base
from anaxis.store.content_places import place_at


class ContentPlace(Base):
    """A folder or a bucket outside the database, set up by the database that ``owner`` names: it alone writes and removes there.

    A copy of the database has another name, and reads what its original keeps.
    """

    __tablename__ = "content_places"
    __table_args__ = (UniqueConstraint("url", "owner"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    url: Mapped[str]
    owner: Mapped[str]


class Content(Base):
    """Bytes, kept once however many files are of them; taken away once no file is.

    They are in the row, or under ``key`` in a place outside the database, and ``size`` says how many there are.
    """

    __tablename__ = "contents"
    sha256: Mapped[str] = mapped_column(primary_key=True)
    in_database: Mapped[bytes | None] = mapped_column("data")
    place_id: Mapped[int | None] = mapped_column(ForeignKey("content_places.id"))
    key: Mapped[str | None]
    size: Mapped[int | None] = mapped_column(BigInteger)
    used_at: Mapped[datetime] = mapped_column(server_default=func.now())  # a file was kept that is of them
    place: Mapped[ContentPlace | None] = relationship(lazy="joined")

    @property
    def data(self) -> bytes:
        """Raises PlaceAway and ContentMissing for bytes outside the database."""
        if self.in_database is not None:
            return self.in_database
        assert self.place is not None and self.key is not None
        return place_at(self.place.url).read(self.key, self.sha256)


class OwnBytes:
    """A row of bytes: they are in the row, or, where new bytes go outside the database, kept as content."""

    in_row: Mapped[bytes | None] = mapped_column("data", deferred=True)
    sha256: Mapped[str | None] = mapped_column(ForeignKey("contents.sha256"), index=True)

    @declared_attr
    def content(cls) -> Mapped[Content | None]:
        return relationship()

    @property
    def data(self) -> bytes:
        """Raises PlaceAway and ContentMissing for bytes outside the database."""
        if self.content is not None:
            return self.content.data
        assert self.in_row is not None
        return self.in_row


class RemovableContent(Base):
    """Bytes in a place outside the database that no row names: they are being written, or were removed or moved. A worker removes them
    some days later, so that no backup and no reader of that time misses them."""

    __tablename__ = "removable_contents"
    place_id: Mapped[int] = mapped_column(ForeignKey("content_places.id"), primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    since: Mapped[datetime] = mapped_column(server_default=func.now(), index=True)
