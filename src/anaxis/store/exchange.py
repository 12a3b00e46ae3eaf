"""Tables of the exchange: who is connected, what they hold, every change in both ways, links, clashes, recordings.

A change is a row before it is acknowledged. What a side holds is its last snapshot and the rows in force since, in the
order of ``sequence``: what it told is in force at once, what it was sent once it said so.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, TypeVar

from sqlalchemy import BigInteger, ForeignKey, Index, Sequence, UniqueConstraint, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.core.typing import Floats
from anaxis.store.base import Base
from anaxis.store.models import Camera, Show, SourceFile, Version

Frames = TypeVar("Frames", float, Floats)

SEQUENCE = Sequence("exchange_sequence", metadata=Base.metadata)
# The channel on which the database tells every server what has just been kept.
NOTIFIED = "anaxis_exchange"
# What a scene says of a camera, beside its id there.
_LISTED = ("name", "first", "last", "rate", "width_px", "height_px", "pixel_aspect")


class Client(Base):
    """A package or tracker that has been connected: known by ``key``, which it made up itself, in one show.

    ``last_received`` is the highest number of its own that is kept here, ``last_sent`` the highest that it was sent, ``last_acked``
    the highest that it said it holds. ``connection`` is the one that counts, where there is one.
    """

    __tablename__ = "exchange_clients"
    belongs_to = "show"
    __table_args__ = (UniqueConstraint("show_id", "key"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"))
    key: Mapped[str]
    kind: Mapped[str] = mapped_column(default="package")
    name: Mapped[str]
    profile: Mapped[dict[str, Any]] = mapped_column(default=dict)
    actor: Mapped[str]
    connection: Mapped[str | None]
    connected_at: Mapped[datetime | None]
    seen_at: Mapped[datetime] = mapped_column(server_default=func.now())
    last_received: Mapped[int] = mapped_column(BigInteger, default=0)
    last_sent: Mapped[int] = mapped_column(BigInteger, default=0)
    last_acked: Mapped[int] = mapped_column(BigInteger, default=0)
    selected: Mapped[str | None]
    scene: Mapped[dict[str, Any]] = mapped_column(default=dict)  # its marks and lines, in its own numbers
    said: Mapped[str] = mapped_column(default="")  # the last thing that it could not take, or that it was refused
    removed_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    show: Mapped[Show] = relationship()
    cameras: Mapped[list[RemoteCamera]] = relationship(back_populates="client", order_by="RemoteCamera.id")


class RemoteCamera(Base):
    """A camera of a client's scene. ``held`` is what it holds, as of ``held_sequence``; None where nobody has asked for it yet.

    ``camera_id`` is the camera here that its takes are kept as.
    """

    __tablename__ = "exchange_cameras"
    belongs_to = "client"
    __table_args__ = (UniqueConstraint("client_id", "key"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    client_id: Mapped[int] = mapped_column(ForeignKey("exchange_clients.id"))
    key: Mapped[str]
    name: Mapped[str]
    first: Mapped[float]
    last: Mapped[float]
    rate: Mapped[str]
    width_px: Mapped[int]
    height_px: Mapped[int]
    pixel_aspect: Mapped[float]
    held: Mapped[bytes | None] = mapped_column(deferred=True)
    held_sequence: Mapped[int | None] = mapped_column(BigInteger)
    camera_id: Mapped[int | None] = mapped_column(ForeignKey("cameras.id"))
    gone_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    client: Mapped[Client] = relationship(back_populates="cameras", lazy="joined")
    camera: Mapped[Camera | None] = relationship()

    @property
    def entry(self) -> dict[str, Any]:
        """The camera as a scene lists it."""
        return {"id": self.key, **{k: getattr(self, k) for k in _LISTED}}

    def take_entry(self, entry: dict[str, Any]) -> None:
        """What a scene says of it now."""
        for name in _LISTED:
            setattr(self, name, entry[name])

    @property
    def known(self) -> bool:
        """Whether it is known here what it holds."""
        return self.held_sequence is not None

    @property
    def called(self) -> str:
        return f"{self.client.name} {self.name}"


class ExchangeChange(Base):
    """A change that a client told (``way`` "in") or is sent ("out"), by its ``number`` in that way. ``base`` is the highest number
    of the other way that whoever made it held then; ``data`` its cells as they are meant to be there, ``wire`` as they are sent
    where a habit is made up for.

    ``sequence`` orders what is in force; None for one that is in transit. ``back`` are the cells that the receiver says it holds
    instead.
    ``cause_id`` is the change that a link passed on, ``said`` why one was refused.
    """

    __tablename__ = "exchange_changes"
    belongs_to = "client"
    __table_args__ = (
        UniqueConstraint("client_id", "direction", "number"),
        Index("exchange_changes_by_sequence", "remote_id", "sequence"),
        Index("exchange_changes_open", "client_id", "number", postgresql_where="acknowledged_at IS NULL"),
    )
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    client_id: Mapped[int] = mapped_column(ForeignKey("exchange_clients.id"))
    remote_id: Mapped[int | None] = mapped_column(ForeignKey("exchange_cameras.id"))
    direction: Mapped[str]
    number: Mapped[int] = mapped_column(BigInteger)
    base: Mapped[int] = mapped_column(BigInteger)
    replaces: Mapped[bool] = mapped_column(default=False)
    entry: Mapped[dict[str, Any] | None]
    data: Mapped[bytes] = mapped_column(deferred=True)
    wire: Mapped[bytes | None] = mapped_column(deferred=True)
    back: Mapped[bytes | None] = mapped_column(deferred=True)
    sequence: Mapped[int | None] = mapped_column(BigInteger)
    frames: Mapped[int] = mapped_column(default=0)
    link_id: Mapped[int | None] = mapped_column(ForeignKey("exchange_links.id"), index=True)
    cause_id: Mapped[int | None] = mapped_column(BigInteger)
    said: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(server_default=func.clock_timestamp())
    acknowledged_at: Mapped[datetime | None]
    client: Mapped[Client] = relationship()

    @property
    def in_force(self) -> bytes:
        """The cells that its side holds by it: what the receiver said it holds, else what was sent."""
        return self.data if self.back is None else self.back


class Link(Base):
    """Two cameras that are kept the same: from the first to the second, or both ways. ``rule`` says what happens where both
    changed the same: "ask", "first" or "second". A frame of the first is ``offset`` more there. With a ``scale``, the second's rate
    divided by the first's, the first is resampled for the second; its frame ``anchor`` keeps its number."""

    __tablename__ = "exchange_links"
    belongs_to = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), index=True)
    first_id: Mapped[int] = mapped_column(ForeignKey("exchange_cameras.id"))
    second_id: Mapped[int] = mapped_column(ForeignKey("exchange_cameras.id"))
    both_ways: Mapped[bool]
    rule: Mapped[str]
    groups: Mapped[list[Any]]
    offset: Mapped[float]
    scale: Mapped[float | None]
    anchor: Mapped[float | None]
    follow: Mapped[bool] = mapped_column(default=False)
    every_s: Mapped[int] = mapped_column(default=0)
    moment_at: Mapped[datetime | None]
    moment_sequence: Mapped[int] = mapped_column(BigInteger, default=0)
    actor: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    stopped_at: Mapped[datetime | None]
    show: Mapped[Show] = relationship()
    first: Mapped[RemoteCamera] = relationship(foreign_keys=[first_id], lazy="joined")
    second: Mapped[RemoteCamera] = relationship(foreign_keys=[second_id], lazy="joined")

    def frame_there(self, frame: Frames, from_first: bool) -> Frames:
        """The frame of the other camera that shows what this frame of the first, or of the second, shows; one, or an array of them."""
        scale, anchor = self.scale or 1.0, self.anchor or 0.0
        if from_first:
            return anchor + (frame - anchor) * scale + self.offset
        return anchor + (frame - self.offset - anchor) / scale

    @property
    def name(self) -> str:
        return f"{self.first.called} {'and' if self.both_ways else 'to'} {self.second.called}"


class Clash(Base):
    """Cells that both sides changed without knowing of each other: each holds its own until a person chooses.

    ``remote_id`` is the camera that held back what it was sent by the change ``out_id``; ``chosen`` says what was done.
    """

    __tablename__ = "exchange_clashes"
    belongs_to = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"))
    remote_id: Mapped[int] = mapped_column(ForeignKey("exchange_cameras.id"), index=True)
    link_id: Mapped[int | None] = mapped_column(ForeignKey("exchange_links.id"), index=True)
    out_id: Mapped[int] = mapped_column(BigInteger)
    groups: Mapped[list[Any]]
    frames: Mapped[list[Any]]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    closed_at: Mapped[datetime | None]
    chosen: Mapped[str] = mapped_column(default="")
    show: Mapped[Show] = relationship()
    remote: Mapped[RemoteCamera] = relationship(lazy="joined")
    link: Mapped[Link | None] = relationship()

    @property
    def name(self) -> str:
        return self.remote.called


class Pulled(Base):
    """What a camera of a package held when a version was made of it: what is written back is from it."""

    __tablename__ = "exchange_pulled"
    belongs_to = "version"
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"), primary_key=True)
    remote_id: Mapped[int] = mapped_column(ForeignKey("exchange_cameras.id"), index=True)
    data: Mapped[bytes] = mapped_column(deferred=True)
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    version: Mapped[Version] = relationship()
    remote: Mapped[RemoteCamera] = relationship(lazy="joined")


class Recording(Base):
    """What a tracker measured: live between two presses, or in a file. Its samples are in blocks; ``settings`` made the camera of it."""

    __tablename__ = "exchange_recordings"
    belongs_to = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), index=True)
    client_id: Mapped[int | None] = mapped_column(ForeignKey("exchange_clients.id"))
    source_file_id: Mapped[int | None] = mapped_column(ForeignKey("source_files.id"))
    name: Mapped[str]
    actor: Mapped[str]
    width_px: Mapped[int] = mapped_column(default=1440)
    height_px: Mapped[int] = mapped_column(default=1920)
    samples: Mapped[int] = mapped_column(default=0)
    settings: Mapped[dict[str, Any]] = mapped_column(default=dict)
    findings: Mapped[list[Any]] = mapped_column(default=list)  # guesses in its file
    camera_id: Mapped[int | None] = mapped_column(ForeignKey("cameras.id"))
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    stopped_at: Mapped[datetime | None]  # it was asked to stop
    ended_at: Mapped[datetime | None]  # it said that nothing more comes
    show: Mapped[Show] = relationship()
    client: Mapped[Client | None] = relationship(lazy="joined")
    source_file: Mapped[SourceFile | None] = relationship()
    camera: Mapped[Camera | None] = relationship()

    @property
    def device(self) -> str:
        """What recorded it: the tracker's name, or the file's."""
        return self.client.name if self.client is not None else self.name


class RecordingBlock(Base):
    """Samples of a recording, (k, 12) floats, by the number of the message that brought them."""

    __tablename__ = "exchange_blocks"
    belongs_to = "recording"
    recording_id: Mapped[int] = mapped_column(ForeignKey("exchange_recordings.id"), primary_key=True)
    number: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    data: Mapped[bytes]
    recording: Mapped[Recording] = relationship()
