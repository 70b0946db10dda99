"""Notices."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    Boolean,
    ForeignKey,
    Index,
    String,
    Text,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, UtcTime


class Notice(Base):
    __tablename__ = "notice"
    __change__ = "notices"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime)
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"))
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    severity: Mapped[str] = mapped_column(String(8))
    text: Mapped[str] = mapped_column(Text)
    seen: Mapped[bool] = mapped_column(Boolean, default=False)
    __table_args__ = (Index("notice_seen", "seen"),)
