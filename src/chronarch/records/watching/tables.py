"""Cameras, the frames of them that are kept, films, and what the watch suspects."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Computed,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    String,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Camera(Base):
    """A camera that looks at a machine, or at a room or shelf of a site."""

    __tablename__ = "camera"
    __change__ = "cameras"
    __subject__ = "name"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"), index=True)
    site: Mapped[str] = mapped_column(String(60), default="")
    place: Mapped[str] = mapped_column(String(60), default="")
    tender_id: Mapped[int] = mapped_column(ForeignKey("tender.id"))
    shown: Mapped[str] = mapped_column(String(500))
    """Its address without secrets."""
    login: Mapped[str] = mapped_column(String(120), default="")
    has_password: Mapped[bool] = mapped_column(Boolean, default=False)
    access: Mapped[bytes] = mapped_column(LargeBinary(4000))
    """Its whole address, login and password, encrypted."""
    first: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether it stands for its machine."""
    settings: Mapped[dict[str, Any]] = mapped_column(JSON)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    stands_for: Mapped[int | None] = mapped_column(Integer, Computed("if(first, machine_id, null)", persisted=True))
    __table_args__ = (UniqueConstraint("stands_for", name="one_first_camera_a_machine"),)


class Frame(Base):
    """One kept frame; its bytes lie on the disk by their content."""

    __tablename__ = "frame"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    camera_id: Mapped[int | None] = mapped_column(ForeignKey("camera.id", ondelete="SET NULL"))
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    at: Mapped[datetime] = mapped_column(UtcTime)
    why: Mapped[str] = mapped_column(String(10))
    layer: Mapped[int] = mapped_column(Integer, default=0)
    command: Mapped[int] = mapped_column(BigInteger, default=0)
    sha256: Mapped[str] = mapped_column(String(64), index=True)
    size: Mapped[int] = mapped_column(Integer)
    keep_until: Mapped[datetime] = mapped_column(UtcTime, index=True)
    __table_args__ = (Index("frame_of_camera", "camera_id", "at"), Index("frame_of_build", "build_id", "at"))


class Film(Base):
    """A film of a build: wanted when the build began, or asked for later. Its bytes lie on the disk by their
    content."""

    __tablename__ = "film"
    __change__ = "films"
    id: Mapped[int] = mapped_column(primary_key=True)
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    camera_id: Mapped[int | None] = mapped_column(ForeignKey("camera.id", ondelete="SET NULL"))
    camera: Mapped[str] = mapped_column(String(60))
    """The name that the camera had."""
    by_itself: Mapped[bool] = mapped_column(Boolean)
    asked_by: Mapped[str] = mapped_column(SignedBy(), default="")
    asked_at: Mapped[datetime] = mapped_column(UtcTime)
    settings: Mapped[dict[str, Any]] = mapped_column(JSON)
    state: Mapped[str] = mapped_column(String(8), index=True)
    problem: Mapped[str] = mapped_column(String(300), default="")
    """Why it waits, or could not be made."""
    made_at: Mapped[datetime | None] = mapped_column(UtcTime)
    kept: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether it stays when films come to more than their share of the disk."""
    sha256: Mapped[str | None] = mapped_column(String(64), index=True)
    poster: Mapped[str | None] = mapped_column(String(64), index=True)
    size: Mapped[int] = mapped_column(BigInteger, default=0)
    seconds: Mapped[float] = mapped_column(Float(53), default=0.0)
    width: Mapped[int] = mapped_column(Integer, default=0)
    height: Mapped[int] = mapped_column(Integer, default=0)
    marks: Mapped[list[dict[str, Any]]] = mapped_column(JSON, default=list)
    layers: Mapped[list[list[float]]] = mapped_column(JSON, default=list)
    own_build: Mapped[int | None] = mapped_column(Integer, Computed("if(by_itself, build_id, null)", persisted=True))
    __table_args__ = (
        UniqueConstraint("own_build", name="one_film_of_its_own_a_build"),
        Index("film_of_build", "build_id"),
    )


class FilmRule(Base):
    """How films of something are to be made: `scope` is what, `subject` its number (0 for the shop)."""

    __tablename__ = "film_rule"
    __change__ = "setup"
    __subject__ = "scope"
    scope: Mapped[str] = mapped_column(String(8), primary_key=True)
    subject: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    settings: Mapped[dict[str, Any]] = mapped_column(JSON)


class BedView(Base):
    """Where a camera sees the bed: its corners in pixels of a picture, and the clear bed's frame."""

    __tablename__ = "bed_view"
    __change__ = "cameras"
    __subject__ = "camera_id"
    camera_id: Mapped[int] = mapped_column(ForeignKey("camera.id", ondelete="CASCADE"), primary_key=True)
    corners: Mapped[list[list[float]]] = mapped_column(JSON)
    clear: Mapped[bytes] = mapped_column(LargeBinary(4_000_000), deferred=True)
    """A JPEG."""
    head_mm: Mapped[list[float] | None] = mapped_column(JSON)
    """Where the head's nozzle is in it; null where that is not known."""
    tip: Mapped[list[float] | None] = mapped_column(JSON)
    """The nozzle's tip in pixels, if somebody marked it."""
    width: Mapped[int] = mapped_column(Integer)
    height: Mapped[int] = mapped_column(Integer)
    set_at: Mapped[datetime] = mapped_column(UtcTime)
    set_by: Mapped[str] = mapped_column(SignedBy(), default="")


class WatchSetting(Base):
    """What follows when something is suspected: `scope` is for what, `subject` its number (0 for the shop)."""

    __tablename__ = "watch_setting"
    __change__ = "watch-rules"
    __subject__ = "scope"
    scope: Mapped[str] = mapped_column(String(8), primary_key=True)
    subject: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    rule: Mapped[dict[str, Any]] = mapped_column(JSON)


class Suspicion(Base):
    """What the watch suspected of a build, or of a bed before one; or what it missed and a person said."""

    __tablename__ = "suspicion"
    __change__ = "suspicions"
    id: Mapped[int] = mapped_column(primary_key=True)
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    """Null for a bed before a start."""
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    camera_id: Mapped[int | None] = mapped_column(ForeignKey("camera.id", ondelete="SET NULL"))
    frame_id: Mapped[int | None] = mapped_column(ForeignKey("frame.id", ondelete="SET NULL"))
    mode: Mapped[str] = mapped_column(String(12))
    object: Mapped[str] = mapped_column(String(120), default="")
    sentence: Mapped[str] = mapped_column(String(300))
    probability: Mapped[float] = mapped_column(Float(53))
    """The highest that it came to; 0 for what a person said."""
    place: Mapped[list[float] | None] = mapped_column(JSON)
    head_mm: Mapped[list[float] | None] = mapped_column(JSON)
    """Where the nozzle's tip was, of a bed before a start."""
    at: Mapped[datetime] = mapped_column(UtcTime)
    """When it was raised, shop time."""
    over_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When it was no longer likely, or its build ended."""
    followed: Mapped[str] = mapped_column(String(10), default="nothing")
    problem: Mapped[str] = mapped_column(String(300), default="")
    """Why what should follow could not be done."""
    right: Mapped[bool | None] = mapped_column(Boolean)
    """What a person said of it; null while nobody has."""
    answered_by: Mapped[str] = mapped_column(SignedBy(), default="")
    answered_at: Mapped[datetime | None] = mapped_column(UtcTime)
    missed: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether a person told of it, and the watch had not."""
    __table_args__ = (
        Index("suspicion_of_build", "build_id"),
        Index("suspicion_of_machine", "machine_id", "at"),
        Index("suspicion_of_camera", "camera_id", "answered_at"),
    )
