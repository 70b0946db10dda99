"""Spans in which machines may not build."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, UtcTime


class UpkeepWindow(Base):
    """A span in which a machine may not build."""

    __tablename__ = "upkeep_window"
    __change__ = "setup"
    id: Mapped[int] = mapped_column(primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    end_at: Mapped[datetime] = mapped_column(UtcTime)
    text: Mapped[str] = mapped_column(String(200), default="")
    __table_args__ = (CheckConstraint("end_at > begin_at", name="upkeep_ends_after_it_begins"),)
