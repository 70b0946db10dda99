"""Orders, jobs, builds, stock."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    CheckConstraint,
    Computed,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    SmallInteger,
    String,
    Text,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Order(Base):
    """What a customer wants by when; its lines are jobs."""

    __tablename__ = "customer_order"
    __change__ = "orders"
    id: Mapped[int] = mapped_column(primary_key=True)
    customer: Mapped[str] = mapped_column(String(120))
    note: Mapped[str] = mapped_column(Text, default="")
    due_at: Mapped[datetime | None] = mapped_column(UtcTime)
    tags: Mapped[list[str]] = mapped_column(JSON, default=list)
    cancelled: Mapped[bool] = mapped_column(Boolean, default=False)
    finished_at: Mapped[datetime | None] = mapped_column(UtcTime)
    repeats: Mapped[int | None] = mapped_column(Integer)
    """The order that this one repeats."""
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    created_by: Mapped[str] = mapped_column(SignedBy())
    __table_args__ = (Index("order_of_customer", "customer"),)


class Stock(Base):
    """Good pieces that nobody has ordered. `what` is `part:NUMBER` or `file:NUMBER`."""

    __tablename__ = "stock"
    __change__ = "stock"
    __subject__ = "what"
    what: Mapped[str] = mapped_column(String(40), primary_key=True)
    material: Mapped[str] = mapped_column(String(60), primary_key=True, default="")
    colour: Mapped[str] = mapped_column(String(60), primary_key=True, default="")
    pieces: Mapped[int] = mapped_column(Integer)
    __table_args__ = (CheckConstraint("pieces >= 0", name="stock_is_never_less_than_none"),)


class QueueVersion(Base):
    """Who last changed the order of the queue. A change that was decided at an older version is refused."""

    __tablename__ = "line"
    __change__ = "jobs"
    __subject__ = "name"
    name: Mapped[str] = mapped_column(String(80), primary_key=True)
    version: Mapped[int] = mapped_column(Integer)
    by: Mapped[str] = mapped_column(SignedBy(), default="")
    text: Mapped[str] = mapped_column(String(300), default="")
    at: Mapped[datetime] = mapped_column(UtcTime)


class Job(Base):
    """Pieces of a part or of one file that are wanted. `line` is its place in the queue, lowest first."""

    __tablename__ = "job"
    __change__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    file_id: Mapped[int | None] = mapped_column(ForeignKey("file.id"))
    part_id: Mapped[int | None] = mapped_column(ForeignKey("part.id"))
    pinned: Mapped[int | None] = mapped_column(Integer)
    """The revision that all copies are made from; without one, each is made from the newest."""
    copies: Mapped[int] = mapped_column(Integer)
    held: Mapped[bool] = mapped_column(Boolean, default=False)
    withdrawn: Mapped[bool] = mapped_column(Boolean, default=False)
    requirement: Mapped[dict[str, Any]] = mapped_column(JSON)
    order_id: Mapped[int | None] = mapped_column(ForeignKey("customer_order.id"))
    from_stock: Mapped[int] = mapped_column(Integer, default=0)
    """Pieces taken from stock instead of being made."""
    priority: Mapped[int] = mapped_column(Integer, default=0)
    due_at: Mapped[datetime | None] = mapped_column(UtcTime)
    not_before: Mapped[datetime | None] = mapped_column(UtcTime)
    line: Mapped[float] = mapped_column(Float(53), default=0.0)
    top: Mapped[bool] = mapped_column(Boolean, default=False)
    note: Mapped[str] = mapped_column(Text, default="")
    tags: Mapped[list[str]] = mapped_column(JSON, default=list)
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    created_by: Mapped[str] = mapped_column(SignedBy())
    open: Mapped[bool] = mapped_column(Boolean, default=True)
    """Whether it is neither withdrawn nor all good; `open_jobs` keeps it so."""
    __table_args__ = (
        Index("job_of_order", "order_id"),
        Index("job_open", "open", "line"),
        Index("job_line", "line"),
        CheckConstraint("(file_id is null) <> (part_id is null)", name="a_job_is_for_a_file_or_a_part"),
    )


class Build(Base):
    __tablename__ = "build"
    __change__ = "builds"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    copy_number: Mapped[int] = mapped_column(Integer)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    file_id: Mapped[int] = mapped_column(ForeignKey("file.id"))
    revision: Mapped[int] = mapped_column(Integer)
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"))
    state: Mapped[str] = mapped_column(String(12))
    outcome: Mapped[str | None] = mapped_column(String(12))
    reason: Mapped[str] = mapped_column(String(300), default="")
    claimed_at: Mapped[datetime] = mapped_column(UtcTime)
    started_at: Mapped[datetime | None] = mapped_column(UtcTime)
    ended_at: Mapped[datetime | None] = mapped_column(UtcTime)
    cleared_at: Mapped[datetime | None] = mapped_column(UtcTime)
    verdict: Mapped[str | None] = mapped_column(String(8))
    scrap_reason: Mapped[str] = mapped_column(String(300), default="")
    judged_by: Mapped[str] = mapped_column(SignedBy(), default="")
    pieces: Mapped[int] = mapped_column(Integer, default=1)
    good_pieces: Mapped[int | None] = mapped_column(Integer)
    """How many of its pieces were judged good; null while nobody has judged."""
    let_go: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether the machine released it by itself."""
    photo: Mapped[str | None] = mapped_column(ForeignKey("blob.sha256"))
    """A picture that somebody took of what went wrong."""
    commands: Mapped[int] = mapped_column(BigInteger)
    acknowledged: Mapped[int] = mapped_column(BigInteger, default=0)
    planned_s: Mapped[float] = mapped_column(Float(53))
    grams: Mapped[float] = mapped_column(Float(53), default=0.0)
    skips: Mapped[list[dict[str, Any]]] = mapped_column(JSON, default=list)
    """Objects that people left out under way, each with the layer from which it is missing."""
    fed_sha256: Mapped[str | None] = mapped_column(ForeignKey("blob.sha256"))
    """The edited content that it continues with; null while the file is fed as it is."""
    note: Mapped[str] = mapped_column(String(2000), default="")
    """What people wrote beside it."""
    took_s: Mapped[int | None] = mapped_column(
        BigInteger, Computed("timestampdiff(second, started_at, ended_at)", persisted=True)
    )
    has_note: Mapped[int | None] = mapped_column(SmallInteger, Computed("if(note = '', null, 1)", persisted=True))
    """1 where there is one: few builds have, and no others are looked through for words."""
    log_bytes: Mapped[int | None] = mapped_column(BigInteger)
    """The size of its line log, packed; null while the tender has not handed it over."""
    open_machine: Mapped[int | None] = mapped_column(
        Integer, Computed("if(cleared_at is null, machine_id, null)", persisted=True)
    )
    live_copy: Mapped[int | None] = mapped_column(
        Integer, Computed("if(verdict = 'scrap', null, copy_number)", persisted=True)
    )
    __table_args__ = (
        UniqueConstraint("open_machine", name="one_open_build_a_machine"),
        UniqueConstraint("job_id", "live_copy", name="one_build_a_copy"),
        Index("build_ended", "ended_at"),
        Index("build_judged", "machine_id", "verdict", "ended_at", "grams"),
        Index("build_ran", "machine_id", "started_at", "ended_at"),
        Index("build_of_file", "file_id"),
        Index("build_took", "took_s"),
        Index("build_grams", "grams"),
        Index("build_began", "started_at"),
        Index("build_verdict", "verdict"),
        Index("build_outcome", "outcome"),
        Index("build_scrap_reason", "scrap_reason"),
        Index("build_judged_by", "judged_by"),
        Index("build_reason", "reason"),
        Index("build_revision", "revision"),
        Index("build_has_note", "has_note"),
    )


class BuildTag(Base):
    """A word by which people find a build again."""

    __tablename__ = "build_tag"
    __change__ = "builds"
    __subject__ = "build_id"
    tag: Mapped[str] = mapped_column(String(60), primary_key=True)
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"), primary_key=True)
    __table_args__ = (Index("tag_of_build", "build_id"),)


class BuildLayers(Base):
    """How long each layer of a build took: `records/orders/build_layers.py` packs and reads it."""

    __tablename__ = "build_layers"
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"), primary_key=True)
    seconds: Mapped[bytes] = mapped_column(LargeBinary(1_000_000))


class SavedView(Base):
    """What people ask a page for, under a name."""

    __tablename__ = "saved_view"
    __change__ = "saved-views"
    __subject__ = "name"
    page: Mapped[str] = mapped_column(String(16), primary_key=True)
    name: Mapped[str] = mapped_column(String(60), primary_key=True)
    asked: Mapped[dict[str, Any]] = mapped_column(JSON)
    saved_by: Mapped[str] = mapped_column(SignedBy())
    saved_at: Mapped[datetime] = mapped_column(UtcTime)


class BuildUse(Base):
    """What one tool had on it for a build, and what it laid."""

    __tablename__ = "build_use"
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"), primary_key=True)
    tool: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    material: Mapped[str] = mapped_column(String(60), default="")
    colour: Mapped[str] = mapped_column(String(60), default="")
    nozzle_mm: Mapped[float] = mapped_column(Float(53))
    spool_id: Mapped[int | None] = mapped_column(ForeignKey("spool.id"))
    grams: Mapped[float] = mapped_column(Float(53), default=0.0)
    """0 until the build has ended."""
    __table_args__ = (
        Index("use_of_material", "material", "colour", "build_id"),
        Index("use_of_spool", "spool_id", "build_id"),
        Index("use_of_nozzle", "nozzle_mm", "build_id"),
        Index("use_of_colour", "colour", "build_id"),
    )
