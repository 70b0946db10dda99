"""Files, their contents and what was read of them; parts."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Computed,
    Float,
    ForeignKey,
    Index,
    Integer,
    String,
    Text,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Blob(Base):
    """Bytes kept on disk by their content."""

    __tablename__ = "blob"
    sha256: Mapped[str] = mapped_column(String(64), primary_key=True)
    size: Mapped[int] = mapped_column(BigInteger)


class Folder(Base):
    """A place in the library; its path is `a/b`, the library itself is the empty path and has no row."""

    __tablename__ = "folder"
    __change__ = "files"
    __subject__ = "path"
    path: Mapped[str] = mapped_column(String(300), primary_key=True)


class Part(Base):
    """A thing the shop makes. `shape` tells of its reference model: blob, name, kind, size in mm."""

    __tablename__ = "part"
    __change__ = "parts"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(200), unique=True)
    notes: Mapped[str] = mapped_column(Text, default="")
    shape: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(SignedBy())


class File(Base):
    """A sliced file by name; what it holds is its newest revision. A name is free again once its file is binned."""

    __tablename__ = "file"
    __change__ = "files"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(200))
    folder: Mapped[str] = mapped_column(String(300), default="")
    notes: Mapped[str] = mapped_column(Text, default="")
    tags: Mapped[list[str]] = mapped_column(JSON, default=list)
    part_id: Mapped[int | None] = mapped_column(ForeignKey("part.id"))
    newest: Mapped[int] = mapped_column(Integer, default=1)
    """The number of the newest revision."""
    pieces: Mapped[int] = mapped_column(Integer, default=1)
    """How many parts one build of it yields."""
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(SignedBy())
    binned_at: Mapped[datetime | None] = mapped_column(UtcTime)
    binned_by: Mapped[str] = mapped_column(SignedBy(), default="")
    emptied: Mapped[bool] = mapped_column(Boolean, default=False)
    """Deleted for good; the row stays because builds were made of it."""
    live_name: Mapped[str | None] = mapped_column(
        String(200), Computed("if(binned_at is null, name, null)", persisted=True)
    )
    __table_args__ = (UniqueConstraint("live_name", name="one_file_a_name"),)


class Revision(Base):
    """One content of a file; `how` says in words how it came about."""

    __tablename__ = "revision"
    __change__ = "files"
    __subject__ = "file_id"
    id: Mapped[int] = mapped_column(primary_key=True)
    file_id: Mapped[int] = mapped_column(ForeignKey("file.id"))
    number: Mapped[int] = mapped_column(Integer)
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"))
    how: Mapped[str] = mapped_column(String(300), default="")
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(SignedBy())
    __table_args__ = (UniqueConstraint("file_id", "number", name="one_revision_a_number"),)


class ContentReading(Base):
    """What a content says for one model (empty: the reference figures, while the shop has no model)."""

    __tablename__ = "content_reading"
    __change__ = "files"
    __subject__ = "sha256"
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"), primary_key=True)
    model: Mapped[str] = mapped_column(String(60), primary_key=True)
    planned_s: Mapped[float] = mapped_column(Float(53))
    figures: Mapped[dict[str, Any]] = mapped_column(JSON)
    plan: Mapped[dict[str, Any]] = mapped_column(JSON, deferred=True)
    material: Mapped[str | None] = mapped_column(
        String(60), Computed("json_value(figures, '$.declared.material')", persisted=True), deferred=True
    )
    nozzle_mm: Mapped[float | None] = mapped_column(
        Float(53), Computed("json_value(figures, '$.declared.nozzle_mm')", persisted=True), deferred=True
    )
    refuses: Mapped[bool] = mapped_column(
        Boolean,
        Computed("json_search(figures, 'one', 'refuse', null, '$.findings[*].severity') is not null", persisted=True),
        deferred=True,
    )
    """Whether a rule of the preflight keeps the content off the model, set aside or not."""


class Arrival(Base):
    """A file that has arrived and is being read, or was refused and why. `wish` is what was asked with it."""

    __tablename__ = "arrival"
    __change__ = "arrivals"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(200))
    sha256: Mapped[str] = mapped_column(String(64))
    size: Mapped[int] = mapped_column(BigInteger)
    state: Mapped[str] = mapped_column(String(10))
    problem: Mapped[str] = mapped_column(Text, default="")
    wish: Mapped[dict[str, Any]] = mapped_column(JSON)
    file_id: Mapped[int | None] = mapped_column(ForeignKey("file.id"))
    job_id: Mapped[int | None] = mapped_column(Integer)
    new: Mapped[bool] = mapped_column(Boolean, default=False)
    tries: Mapped[int] = mapped_column(Integer, default=0)
    """How often its reading was begun."""
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(SignedBy())
    __table_args__ = (Index("arrival_state", "state"),)


class HotFolder(Base):
    """A folder of the service's computer whose files are taken in by themselves. `queue` is what is queued of each."""

    __tablename__ = "hot_folder"
    __change__ = "hot-folders"
    id: Mapped[int] = mapped_column(primary_key=True)
    path: Mapped[str] = mapped_column(String(700), unique=True)
    folder: Mapped[str] = mapped_column(String(300), default="")
    queue: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    on: Mapped[bool] = mapped_column(Boolean, default=True)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(SignedBy())


class Overruling(Base):
    """A person lets a content run on a model although a preflight's rule refuses it."""

    __tablename__ = "overruling"
    __change__ = "files"
    __subject__ = "sha256"
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"), primary_key=True)
    model: Mapped[str] = mapped_column(String(60), primary_key=True)
    rule: Mapped[str] = mapped_column(String(40), primary_key=True)
    reason: Mapped[str] = mapped_column(String(300))
    at: Mapped[datetime] = mapped_column(UtcTime)
    by: Mapped[str] = mapped_column(SignedBy())
