"""Helpers' links."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    Boolean,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class HelperLink(Base):
    """An address that shows the rounds of one site to somebody without an account. Its token is kept as SHA-256."""

    __tablename__ = "helper_link"
    __change__ = "setup"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    site: Mapped[str] = mapped_column(String(60))
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    created_by: Mapped[str] = mapped_column(SignedBy())
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    expires_at: Mapped[datetime] = mapped_column(UtcTime)
    """Real time, as for sign-in."""
    revoked: Mapped[bool] = mapped_column(Boolean, default=False)
