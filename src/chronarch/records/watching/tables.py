"""Cameras, and the frames of them that are kept."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Computed,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    String,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, UtcTime


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
