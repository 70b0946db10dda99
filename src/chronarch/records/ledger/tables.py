"""The ledger: each machine's states."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import (
    BigInteger,
    Date,
    Float,
    ForeignKey,
    Index,
    Integer,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, UtcTime


class Ledger(Base):
    """One machine in one state from `begin_at` up to `end_at`; the last interval ends in the year 9999."""

    __tablename__ = "ledger"
    __change__ = "ledger"
    __subject__ = "machine_id"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    state: Mapped[str] = mapped_column(String(12))
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    end_at: Mapped[datetime] = mapped_column(UtcTime)
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    __table_args__ = (Index("ledger_of_machine", "machine_id", "end_at"),)


class LedgerDay(Base):
    """How long a machine was in a state on a day (UTC), in intervals that have ended: what reports of long spans add
    up. `chronarch ledger rebuild` makes these rows anew."""

    __tablename__ = "ledger_day"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    state: Mapped[str] = mapped_column(String(12), primary_key=True)
    day: Mapped[date] = mapped_column(Date, primary_key=True)
    microseconds: Mapped[int] = mapped_column(BigInteger)


class Energy(Base):
    """Wh that a machine drew on a day (UTC) in a state, for a build (0: for none), until `last_at`."""

    __tablename__ = "energy"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    day: Mapped[date] = mapped_column(Date, primary_key=True)
    state: Mapped[str] = mapped_column(String(12), primary_key=True)
    build_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    wh: Mapped[float] = mapped_column(Float(53))
    last_at: Mapped[datetime] = mapped_column(UtcTime)
    __table_args__ = (Index("energy_of_build", "build_id"), Index("energy_of_day", "day"))
