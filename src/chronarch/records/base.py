"""What all tables are based on."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import String, TypeDecorator
from sqlalchemy.dialects.mysql import DATETIME
from sqlalchemy.orm import DeclarativeBase


class UtcTime(TypeDecorator[datetime]):
    """A point in time, kept as UTC with microseconds."""

    impl = DATETIME(fsp=6)
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Any) -> datetime | None:
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Any) -> datetime | None:
        return None if value is None else value.replace(tzinfo=UTC)


class SignedBy(TypeDecorator[str]):
    """Who did something: a person's name, or that of a key or helper with its number. What a person has signed is found
    by this type, wherever it is kept."""

    impl = String(120)
    cache_ok = True


class Base(DeclarativeBase):
    """The base class of all tables."""
