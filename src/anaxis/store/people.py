"""Tables of people: who they are, what they may do, how they are signed in. Of a secret only its SHA-256 is kept."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, func
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.store.base import Base
from anaxis.store.models import Camera, Show


class Person(Base):
    """Somebody with a name of their own; ``password`` is its Argon2 hash, None until one was set; ``everywhere`` a role by number.

    ``subject`` is who they are to the studio's sign-in service, for whom it signs in; ``code_secret`` that of their second factor,
    whose newest code that was taken is of the half minute ``code_step``.
    """

    __tablename__ = "people"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    password: Mapped[str | None]
    everywhere: Mapped[int] = mapped_column(default=0)
    subject: Mapped[str | None] = mapped_column(unique=True)
    code_secret: Mapped[str | None]
    code_step: Mapped[int] = mapped_column(BigInteger, default=0)
    views: Mapped[dict[str, Any]] = mapped_column(JSONB, default=dict)  # what they chose to see, see app/people/views
    email: Mapped[str | None]
    mails: Mapped[bool] = mapped_column(default=False)  # whether notices come by mail too
    disabled_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    in_shows: Mapped[list[RoleInShow]] = relationship(lazy="selectin", cascade="all, delete-orphan")


class RoleInShow(Base):
    __tablename__ = "roles_in_shows"
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"), primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), primary_key=True)
    role: Mapped[int]
    show: Mapped[Show] = relationship()


class SignIn(Base):
    """A browser in which somebody is signed in, until ``ends_at`` where the studio's service signed them in."""

    __tablename__ = "sign_ins"
    digest: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"), index=True)
    browser: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    seen_at: Mapped[datetime] = mapped_column(server_default=func.now())
    ends_at: Mapped[datetime | None]
    person: Mapped[Person] = relationship(lazy="joined")


class OneTimeLink(Base):
    """By which somebody sets a password, once."""

    __tablename__ = "one_time_links"
    digest: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"), index=True)
    expires_at: Mapped[datetime]
    person: Mapped[Person] = relationship(lazy="joined")


class KnownAddress(Base):
    """A network address that somebody has signed in from."""

    __tablename__ = "known_addresses"
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"), primary_key=True)
    address: Mapped[str] = mapped_column(primary_key=True)
    seen_at: Mapped[datetime] = mapped_column(server_default=func.now())


class Token(Base):
    """By which a program acts for somebody, as ``role`` at most, in one show or in all of that person's."""

    __tablename__ = "tokens"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"), index=True)
    name: Mapped[str]
    digest: Mapped[str] = mapped_column(unique=True)
    role: Mapped[int]
    show_id: Mapped[int | None] = mapped_column(ForeignKey("shows.id"))
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    expires_at: Mapped[datetime]
    revoked_at: Mapped[datetime | None]
    used_at: Mapped[datetime | None]
    person: Mapped[Person] = relationship(lazy="joined")
    show: Mapped[Show | None] = relationship()


class ServerKey(Base):
    """What this store's servers sign with."""

    __tablename__ = "server_keys"
    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[bytes]


class Rights(Base):
    """One row: ``revision`` rises with every change of anybody's rights (by triggers, migration 0018)."""

    __tablename__ = "rights"
    id: Mapped[int] = mapped_column(primary_key=True)
    revision: Mapped[int] = mapped_column(BigInteger)


class Presence(Base):
    """Who has a camera's page open, and was heard of when."""

    __tablename__ = "presence"
    belongs_to = "camera"
    camera_id: Mapped[int] = mapped_column(ForeignKey("cameras.id"), primary_key=True)
    who: Mapped[str] = mapped_column(primary_key=True)
    seen_at: Mapped[datetime] = mapped_column(server_default=func.now())
    camera: Mapped[Camera] = relationship()


class AnswerGiven(Base):
    """The answer to a request that came with a key of its own, so that the same one again is not done twice; without a
    ``status`` while work is running."""

    __tablename__ = "answers_given"
    who: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    asked: Mapped[str]
    status: Mapped[int | None]
    body: Mapped[bytes | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
