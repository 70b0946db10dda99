"""Sites and their hours."""

from __future__ import annotations

from typing import Any

from sqlalchemy import (
    JSON,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base


class Site(Base):
    """A place with machines, and the hours when somebody is there. The site without a name is the shop itself."""

    __tablename__ = "site"
    __change__ = "setup"
    __subject__ = "name"
    name: Mapped[str] = mapped_column(String(60), primary_key=True)
    hours: Mapped[dict[str, Any]] = mapped_column(JSON)
