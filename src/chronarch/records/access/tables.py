"""People, their sessions, and keys."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    Boolean,
    ForeignKey,
    Integer,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, UtcTime


class Person(Base):
    __tablename__ = "person"
    id: Mapped[int] = mapped_column(primary_key=True)
    login: Mapped[str] = mapped_column(String(120), unique=True)
    name: Mapped[str] = mapped_column(String(120), unique=True)
    """What the person is called; also their signature in the records."""
    password_hash: Mapped[str] = mapped_column(String(255))
    scope: Mapped[str] = mapped_column(String(16))
    here_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When this person last looked, shop time."""
    left_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When this person was last seen before being away for long."""
    notices_read: Mapped[int] = mapped_column(Integer, default=0)
    """The newest notice that this person has read."""


class Session(Base):
    """A console sign-in. The token is kept as its SHA-256."""

    __tablename__ = "session"
    __change__ = "access"
    __subject__ = "person_id"
    token_hash: Mapped[str] = mapped_column(String(64), primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    csrf: Mapped[str] = mapped_column(String(64))
    expires_at: Mapped[datetime] = mapped_column(UtcTime)


class Key(Base):
    """A key for programs. The secret is kept as its SHA-256: it is random, so nothing slower is needed."""

    __tablename__ = "access_key"
    __change__ = "access"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    secret_hash: Mapped[str] = mapped_column(String(64), unique=True)
    scope: Mapped[str] = mapped_column(String(16))
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    revoked: Mapped[bool] = mapped_column(Boolean, default=False)
    tender: Mapped[str | None] = mapped_column(String(60))
    """For the key of a tender: the one tender it is for; null until its first greeting."""
