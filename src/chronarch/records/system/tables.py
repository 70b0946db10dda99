"""Settings, and answers to requests that may come again."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Date,
    Float,
    Integer,
    String,
    Text,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Answered(Base):
    """What was answered to a request that carried an Idempotency-Key."""

    __tablename__ = "answered"
    who: Mapped[str] = mapped_column(String(120), primary_key=True)
    key: Mapped[str] = mapped_column(String(120), primary_key=True)
    request: Mapped[str] = mapped_column(String(64))
    status: Mapped[int] = mapped_column(Integer)
    body: Mapped[str] = mapped_column(Text)
    at: Mapped[datetime] = mapped_column(UtcTime)


class BackupTaken(Base):
    """A backup that was taken, or was to be and failed. Times are real; sizes are bytes."""

    __tablename__ = "backup"
    __change__ = "backups"
    id: Mapped[int] = mapped_column(primary_key=True)
    stamp: Mapped[str | None] = mapped_column(String(24), unique=True)
    """What it is called at its place; null where it failed."""
    at: Mapped[datetime] = mapped_column(UtcTime, index=True)
    asked_by: Mapped[str] = mapped_column(SignedBy(), default="")
    """Empty where the schedule did."""
    problem: Mapped[str] = mapped_column(String(1000), default="")
    took_s: Mapped[float] = mapped_column(Float(53), default=0.0)
    items: Mapped[int] = mapped_column(Integer, default=0)
    items_bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    records_bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    sent_bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    tried_at: Mapped[datetime | None] = mapped_column(UtcTime)
    restore_s: Mapped[float | None] = mapped_column(Float(53))
    """How long a restore would take, as the trial measured; null where it was not tried."""
    faults: Mapped[int] = mapped_column(Integer, default=0)
    """How many the trial found."""
    first_faults: Mapped[list[str]] = mapped_column(JSON, default=list)


class StorageDay(Base):
    """What a part of what is kept took of the disk on a day of shop time, bytes; the newest of the day."""

    __tablename__ = "storage_day"
    day: Mapped[date] = mapped_column(Date, primary_key=True)
    part: Mapped[str] = mapped_column(String(20), primary_key=True)
    size: Mapped[int] = mapped_column(BigInteger)


class Setting(Base):
    """What the shop has decided: how it plans, its reasons for scrap."""

    __tablename__ = "setting"
    __change__ = "setup"
    __subject__ = "name"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[Any] = mapped_column(JSON)
