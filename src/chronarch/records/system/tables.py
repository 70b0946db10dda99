"""Settings, and answers to requests that may come again."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    Integer,
    String,
    Text,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, UtcTime


class Answered(Base):
    """What was answered to a request that carried an Idempotency-Key."""

    __tablename__ = "answered"
    who: Mapped[str] = mapped_column(String(120), primary_key=True)
    key: Mapped[str] = mapped_column(String(120), primary_key=True)
    request: Mapped[str] = mapped_column(String(64))
    status: Mapped[int] = mapped_column(Integer)
    body: Mapped[str] = mapped_column(Text)
    at: Mapped[datetime] = mapped_column(UtcTime)


class Setting(Base):
    """What the shop has decided: how it plans, its reasons for scrap."""

    __tablename__ = "setting"
    __change__ = "setup"
    __subject__ = "name"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[Any] = mapped_column(JSON)
