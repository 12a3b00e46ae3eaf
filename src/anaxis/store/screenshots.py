"""The table of screenshots: pictures from a receiving package, with the landmarks as they were placed in them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.store.base import Base
from anaxis.store.content_rows import OwnBytes
from anaxis.store.models import Version


class Screenshot(OwnBytes, Base):
    """A picture of a version, taken in the package ``profile``; its bytes are a PNG.

    ``area`` is the part that the camera made: x, y, width, height in pixels, and why. ``frame`` is that of the shot, None where it is
    unknown. ``points`` are pixels by the landmark's name, null for one that is not visible; ``found``: by edges, not by a person.
    ``diagnosis`` is what it says with the others of the same package, as ``anaxis picture --json`` prints it.
    """

    __tablename__ = "screenshots"
    belongs_to = "version"
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"), index=True)
    profile: Mapped[dict[str, Any]]
    name: Mapped[str]
    width_px: Mapped[int]
    height_px: Mapped[int]
    area: Mapped[list[Any]]
    frame: Mapped[float | None]
    points: Mapped[dict[str, Any]] = mapped_column(default=dict)
    found: Mapped[bool] = mapped_column(default=False)
    diagnosis: Mapped[dict[str, Any]] = mapped_column(default=dict)
    removed_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    version: Mapped[Version] = relationship()

    @property
    def placed(self) -> int:
        """How many landmarks are placed."""
        return sum(p is not None for p in self.points.values())
