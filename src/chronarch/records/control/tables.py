"""Tenders, and what people changed of a build under way."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    BigInteger,
    ForeignKey,
    Index,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Tender(Base):
    """A tender and the last of its events that has been committed."""

    __tablename__ = "tender"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    epoch: Mapped[str] = mapped_column(String(40), default="")
    committed: Mapped[int] = mapped_column(BigInteger, default=0)


class BuildChange(Base):
    """What people changed of a running build."""

    __tablename__ = "build_change"
    __change__ = "builds"
    __subject__ = "build_id"
    id: Mapped[int] = mapped_column(primary_key=True)
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    at: Mapped[datetime] = mapped_column(UtcTime)
    text: Mapped[str] = mapped_column(String(300))
    by: Mapped[str] = mapped_column(SignedBy())
    __table_args__ = (Index("change_of_build", "build_id"),)
