"""People, their roles and teams, their invites and sessions, and keys."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    CheckConstraint,
    ForeignKey,
    Integer,
    LargeBinary,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Person(Base):
    __tablename__ = "person"
    id: Mapped[int] = mapped_column(primary_key=True)
    login: Mapped[str] = mapped_column(String(120), unique=True)
    name: Mapped[str] = mapped_column(String(120), unique=True)
    """What the person is called; also their signature in the records."""
    password_hash: Mapped[str] = mapped_column(String(255))
    mail: Mapped[str] = mapped_column(String(254), default="")
    zone: Mapped[str] = mapped_column(String(64), default="")
    """The time zone in which they read times; empty for that of where they look from."""
    theme: Mapped[str] = mapped_column(String(8), default="")
    """`light` or `dark`; empty for what their device wants."""
    picture: Mapped[bytes | None] = mapped_column(LargeBinary(400_000), deferred=True)
    """A small square JPEG."""
    pictured_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When the picture was set; null without one."""
    here_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When this person last looked, shop time."""
    left_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When this person was last seen before being away for long."""
    notices_read: Mapped[int] = mapped_column(Integer, default=0)
    """The newest notice that this person has read."""


class Role(Base):
    """A role that the shop has made, beside those that are given."""

    __tablename__ = "role"
    __change__ = "access"
    __subject__ = "name"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    rights: Mapped[list[str]] = mapped_column(JSON)
    made_by: Mapped[str] = mapped_column(SignedBy(), default="")


class Team(Base):
    """People who hold the same roles."""

    __tablename__ = "team"
    __change__ = "access"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)


class TeamMember(Base):
    __tablename__ = "team_member"
    __change__ = "access"
    __subject__ = "team_id"
    team_id: Mapped[int] = mapped_column(ForeignKey("team.id", ondelete="CASCADE"), primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), primary_key=True)


class RoleHeld(Base):
    """A role that a person or a team holds for a place: the shop, a site or a pool."""

    __tablename__ = "role_held"
    __change__ = "access"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    team_id: Mapped[int | None] = mapped_column(ForeignKey("team.id", ondelete="CASCADE"))
    role: Mapped[str] = mapped_column(String(40))
    place_kind: Mapped[str] = mapped_column(String(8))
    place: Mapped[str] = mapped_column(String(60), default="")
    """The name of the site or pool; empty for the shop."""
    __table_args__ = (CheckConstraint("(person_id is null) <> (team_id is null)", name="one_holder"),)


class Invite(Base):
    """A link by which somebody becomes a person of the shop. Its token is kept as SHA-256. Times are real."""

    __tablename__ = "invite"
    __change__ = "access"
    id: Mapped[int] = mapped_column(primary_key=True)
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    name: Mapped[str] = mapped_column(String(120))
    """Who it is for."""
    mail: Mapped[str] = mapped_column(String(254), default="")
    roles: Mapped[list[dict[str, Any]]] = mapped_column(JSON)
    """What they will hold: role, kind of place, its name."""
    teams: Mapped[list[str]] = mapped_column(JSON)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    """Whom it gives a new password; null for somebody new."""
    made_by: Mapped[str] = mapped_column(SignedBy())
    made_at: Mapped[datetime] = mapped_column(UtcTime)
    expires_at: Mapped[datetime] = mapped_column(UtcTime)
    taken_at: Mapped[datetime | None] = mapped_column(UtcTime)
    taken_by: Mapped[str] = mapped_column(SignedBy(), default="")


class Session(Base):
    """A console sign-in. The token is kept as its SHA-256. Times are real."""

    __tablename__ = "session"
    __change__ = "access"
    __subject__ = "person_id"
    id: Mapped[int] = mapped_column(primary_key=True)
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    csrf: Mapped[str] = mapped_column(String(64))
    made_at: Mapped[datetime] = mapped_column(UtcTime)
    last_at: Mapped[datetime] = mapped_column(UtcTime)
    """When it was last used, to the minute."""
    expires_at: Mapped[datetime] = mapped_column(UtcTime)
    place: Mapped[str] = mapped_column(String(60), default="")
    """The address that it was opened from."""
    device: Mapped[str] = mapped_column(String(80), default="")
    """What it was opened with, as the browser says it."""
    trusted: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether the device is the person's own, and stays signed in for long."""
    second: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether a second factor was shown in it."""
    shown_at: Mapped[datetime] = mapped_column(UtcTime)
    """When the person last showed who they are."""


class GuardedRole(Base):
    """A role that counts only where a second factor was shown."""

    __tablename__ = "guarded_role"
    __change__ = "access"
    __subject__ = "role"
    role: Mapped[str] = mapped_column(String(40), primary_key=True)


class SecondFactor(Base):
    """Something that a person has, beside the password that they know: an app that shows codes, or a passkey. Times are
    real."""

    __tablename__ = "second_factor"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), index=True)
    kind: Mapped[str] = mapped_column(String(8))
    """`app` or `passkey`."""
    name: Mapped[str] = mapped_column(String(60))
    secret: Mapped[bytes] = mapped_column(LargeBinary(2000))
    """An app's, encrypted; of a passkey the public key."""
    credential: Mapped[bytes | None] = mapped_column(LargeBinary(1023))
    """What a passkey calls itself."""
    host: Mapped[str] = mapped_column(String(253), default="")
    """The name of the service that a passkey is for."""
    counted: Mapped[int] = mapped_column(BigInteger, default=0)
    """The newest time step whose code was used; how often a passkey says that it was."""
    confirmed: Mapped[bool] = mapped_column(Boolean, default=False)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    last_at: Mapped[datetime | None] = mapped_column(UtcTime)


class RecoveryCode(Base):
    """Stands for a second factor once, where that is lost. Kept as SHA-256: it is random."""

    __tablename__ = "recovery_code"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), index=True)
    code_hash: Mapped[str] = mapped_column(String(64))


class Key(Base):
    """A key for programs. The secret is kept as its SHA-256: it is random, so nothing slower is needed."""

    __tablename__ = "access_key"
    __change__ = "access"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    secret_hash: Mapped[str] = mapped_column(String(64), unique=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    """Whose it is; null for one of the shop's own."""
    rights: Mapped[list[str]] = mapped_column(JSON)
    places: Mapped[list[list[str]]] = mapped_column(JSON)
    """What its rights hold for: kind of place and its name."""
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    expires_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """Null where it holds until it is revoked."""
    last_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When it was last used, to the minute."""
    old_secret_hash: Mapped[str | None] = mapped_column(String(64), unique=True)
    """The secret before it was changed, which opens until `old_until`."""
    old_until: Mapped[datetime | None] = mapped_column(UtcTime)
    revoked: Mapped[bool] = mapped_column(Boolean, default=False)
    tender: Mapped[str | None] = mapped_column(String(60))
    """For the key of a tender: the one tender it is for; null until its first greeting."""
