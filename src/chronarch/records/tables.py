"""The tables. What must never be broken is a constraint here, not a habit of the code above:

*   one open build a machine: `build.open_machine` is the machine while the bed is not cleared, else null, and unique;
*   one build a copy: `build.live_copy` is the copy unless it was scrapped, else null, and unique within the job;
*   no overlapping ledger intervals: a period with `WITHOUT OVERLAPS` (added by the migration, SQLAlchemy has no words
    for it).
"""

from __future__ import annotations

from datetime import UTC, datetime
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
    String,
    Text,
    TypeDecorator,
    UniqueConstraint,
)
from sqlalchemy.dialects.mysql import DATETIME
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class UtcTime(TypeDecorator[datetime]):
    """A point in time, kept as UTC with microseconds."""

    impl = DATETIME(fsp=6)
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Any) -> datetime | None:
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Any) -> datetime | None:
        return None if value is None else value.replace(tzinfo=UTC)


class Base(DeclarativeBase):
    """The root of all tables."""


class Person(Base):
    __tablename__ = "person"
    id: Mapped[int] = mapped_column(primary_key=True)
    login: Mapped[str] = mapped_column(String(120), unique=True)
    name: Mapped[str] = mapped_column(String(120), unique=True)
    """What they are called, and sign with in the records."""
    password_hash: Mapped[str] = mapped_column(String(255))
    scope: Mapped[str] = mapped_column(String(16))
    here_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When this person last looked, shop time."""
    left_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When this person was last seen before being away for long."""


class Session(Base):
    """A console sign-in. The token is kept as its SHA-256."""

    __tablename__ = "session"
    token_hash: Mapped[str] = mapped_column(String(64), primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    csrf: Mapped[str] = mapped_column(String(64))
    expires_at: Mapped[datetime] = mapped_column(UtcTime)


class Key(Base):
    """A key for programs. The secret is kept as its SHA-256: it is random, so nothing slower is needed."""

    __tablename__ = "access_key"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    secret_hash: Mapped[str] = mapped_column(String(64), unique=True)
    scope: Mapped[str] = mapped_column(String(16))
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    revoked: Mapped[bool] = mapped_column(Boolean, default=False)
    tender: Mapped[str | None] = mapped_column(String(60))
    """Of a tender's key: the one tender it is for; null until its first greeting."""


class Tender(Base):
    """A tender and the last of its events that has been committed."""

    __tablename__ = "tender"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    epoch: Mapped[str] = mapped_column(String(40), default="")
    committed: Mapped[int] = mapped_column(BigInteger, default=0)


class Model(Base):
    __tablename__ = "model"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    spec: Mapped[dict[str, Any]] = mapped_column(JSON)


class Machine(Base):
    __tablename__ = "machine"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    model_id: Mapped[int] = mapped_column(ForeignKey("model.id"))
    tender_id: Mapped[int] = mapped_column(ForeignKey("tender.id"))
    link: Mapped[str] = mapped_column(String(300))
    device: Mapped[str] = mapped_column(String(400), unique=True)
    """What is behind the link, so that no two machines have it."""
    camera: Mapped[str] = mapped_column(String(300), default="")
    intake: Mapped[str] = mapped_column(String(10))
    tools: Mapped[list[dict[str, Any]]] = mapped_column(JSON)
    state: Mapped[str] = mapped_column(String(12))
    since: Mapped[datetime] = mapped_column(UtcTime)
    reason: Mapped[str] = mapped_column(String(300), default="")
    site: Mapped[str] = mapped_column(String(60), default="")
    place: Mapped[str] = mapped_column(String(40), default="")
    """Where it stands, as somebody who walks by would say: `A2`."""
    pools: Mapped[list[str]] = mapped_column(JSON, default=list)
    tags: Mapped[list[str]] = mapped_column(JSON, default=list)
    releases_left: Mapped[int] = mapped_column(Integer, default=0)
    """How many parts in a row it may still let go of with nobody there."""
    release_stuck: Mapped[str] = mapped_column(String(300), default="")
    """Why it could not let go of its last part; empty when it could, or nobody asked."""


class Blob(Base):
    """Bytes kept on disk by their content."""

    __tablename__ = "blob"
    sha256: Mapped[str] = mapped_column(String(64), primary_key=True)
    size: Mapped[int] = mapped_column(BigInteger)


class Folder(Base):
    """A place in the library; its path is `a/b`, the library itself is the empty path and has no row."""

    __tablename__ = "folder"
    path: Mapped[str] = mapped_column(String(300), primary_key=True)


class Part(Base):
    """A thing the shop makes. `shape` tells of its reference model: blob, name, kind, size in mm."""

    __tablename__ = "part"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(200), unique=True)
    notes: Mapped[str] = mapped_column(Text, default="")
    shape: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(String(120))


class File(Base):
    """A sliced file by name; what it holds is its newest revision. A name is free again once its file is binned."""

    __tablename__ = "file"
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
    added_by: Mapped[str] = mapped_column(String(120))
    binned_at: Mapped[datetime | None] = mapped_column(UtcTime)
    binned_by: Mapped[str] = mapped_column(String(120), default="")
    emptied: Mapped[bool] = mapped_column(Boolean, default=False)
    """Thrown away for good; the row stays because builds were made of it."""
    live_name: Mapped[str | None] = mapped_column(
        String(200), Computed("if(binned_at is null, name, null)", persisted=True)
    )
    __table_args__ = (UniqueConstraint("live_name", name="one_file_a_name"),)


class Revision(Base):
    """One content of a file; `how` says in words how it came about."""

    __tablename__ = "revision"
    id: Mapped[int] = mapped_column(primary_key=True)
    file_id: Mapped[int] = mapped_column(ForeignKey("file.id"))
    number: Mapped[int] = mapped_column(Integer)
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"))
    how: Mapped[str] = mapped_column(String(300), default="")
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    added_by: Mapped[str] = mapped_column(String(120))
    __table_args__ = (UniqueConstraint("file_id", "number", name="one_revision_a_number"),)


class ContentReading(Base):
    """What a content says for one model of machine (empty: the reference figures, while a shop has no model)."""

    __tablename__ = "content_reading"
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"), primary_key=True)
    model: Mapped[str] = mapped_column(String(60), primary_key=True)
    planned_s: Mapped[float] = mapped_column(Float(53))
    figures: Mapped[dict[str, Any]] = mapped_column(JSON)
    plan: Mapped[dict[str, Any]] = mapped_column(JSON, deferred=True)


class Arrival(Base):
    """A file that has come and is being read, or was refused and why. `wish` is what came with it."""

    __tablename__ = "arrival"
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
    added_by: Mapped[str] = mapped_column(String(120))
    __table_args__ = (Index("arrival_state", "state"),)


class Overruling(Base):
    """A person lets a content run on a model although a preflight's rule refuses it."""

    __tablename__ = "overruling"
    sha256: Mapped[str] = mapped_column(ForeignKey("blob.sha256"), primary_key=True)
    model: Mapped[str] = mapped_column(String(60), primary_key=True)
    rule: Mapped[str] = mapped_column(String(40), primary_key=True)
    reason: Mapped[str] = mapped_column(String(300))
    at: Mapped[datetime] = mapped_column(UtcTime)
    by: Mapped[str] = mapped_column(String(120))


class Answered(Base):
    """What was answered to a request that carried an Idempotency-Key."""

    __tablename__ = "answered"
    who: Mapped[str] = mapped_column(String(120), primary_key=True)
    key: Mapped[str] = mapped_column(String(120), primary_key=True)
    request: Mapped[str] = mapped_column(String(64))
    status: Mapped[int] = mapped_column(Integer)
    body: Mapped[str] = mapped_column(Text)
    at: Mapped[datetime] = mapped_column(UtcTime)


class Order(Base):
    """What a customer wants by when; its lines are jobs."""

    __tablename__ = "customer_order"
    id: Mapped[int] = mapped_column(primary_key=True)
    customer: Mapped[str] = mapped_column(String(120))
    note: Mapped[str] = mapped_column(Text, default="")
    due_at: Mapped[datetime | None] = mapped_column(UtcTime)
    tags: Mapped[list[str]] = mapped_column(JSON, default=list)
    cancelled: Mapped[bool] = mapped_column(Boolean, default=False)
    finished_at: Mapped[datetime | None] = mapped_column(UtcTime)
    repeats: Mapped[int | None] = mapped_column(Integer)
    """The order this one was made from."""
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    created_by: Mapped[str] = mapped_column(String(120))


class Stock(Base):
    """Good pieces that nobody has ordered. `what` is `part:NUMBER` or `file:NUMBER`."""

    __tablename__ = "stock"
    what: Mapped[str] = mapped_column(String(40), primary_key=True)
    material: Mapped[str] = mapped_column(String(60), primary_key=True, default="")
    colour: Mapped[str] = mapped_column(String(60), primary_key=True, default="")
    pieces: Mapped[int] = mapped_column(Integer)
    __table_args__ = (CheckConstraint("pieces >= 0", name="stock_is_never_less_than_none"),)


class Spool(Base):
    """One reel in one colour. On a tool of a machine, or on the shelf."""

    __tablename__ = "spool"
    id: Mapped[int] = mapped_column(primary_key=True)
    material: Mapped[str] = mapped_column(String(60))
    colour: Mapped[str] = mapped_column(String(60))
    grams_full: Mapped[float] = mapped_column(Float(53))
    grams_left: Mapped[float] = mapped_column(Float(53))
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"))
    tool: Mapped[int | None] = mapped_column(Integer)
    place: Mapped[str] = mapped_column(String(60), default="")
    finished: Mapped[bool] = mapped_column(Boolean, default=False)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    __table_args__ = (UniqueConstraint("machine_id", "tool", name="one_spool_a_tool"),)


class SpoolChange(Base):
    """What was taken from a spool, or what weighing it said."""

    __tablename__ = "spool_change"
    id: Mapped[int] = mapped_column(primary_key=True)
    spool_id: Mapped[int] = mapped_column(ForeignKey("spool.id"))
    at: Mapped[datetime] = mapped_column(UtcTime)
    grams: Mapped[float] = mapped_column(Float(53))
    """What it changed by."""
    text: Mapped[str] = mapped_column(String(300))
    by: Mapped[str] = mapped_column(String(120))
    __table_args__ = (Index("change_of_spool", "spool_id"),)


class Site(Base):
    """A place with machines and the hours when hands are there; the one without a name is the shop's own."""

    __tablename__ = "site"
    name: Mapped[str] = mapped_column(String(60), primary_key=True)
    hours: Mapped[dict[str, Any]] = mapped_column(JSON)


class Setting(Base):
    """What the shop has decided: how it plans, its reasons for scrap."""

    __tablename__ = "setting"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[Any] = mapped_column(JSON)


class Line(Base):
    """Who last changed the order of the queue: a change that was made by an older look is refused."""

    __tablename__ = "line"
    name: Mapped[str] = mapped_column(String(80), primary_key=True)
    version: Mapped[int] = mapped_column(Integer)
    by: Mapped[str] = mapped_column(String(120), default="")
    text: Mapped[str] = mapped_column(String(300), default="")
    at: Mapped[datetime] = mapped_column(UtcTime)


class HelperLink(Base):
    """An address that shows the rounds of one site to somebody without an account. Kept as its token's SHA-256."""

    __tablename__ = "helper_link"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    site: Mapped[str] = mapped_column(String(60))
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    created_by: Mapped[str] = mapped_column(String(120))
    created_at: Mapped[datetime] = mapped_column(UtcTime)
    expires_at: Mapped[datetime] = mapped_column(UtcTime)
    """Real time, as sign-in has it."""
    revoked: Mapped[bool] = mapped_column(Boolean, default=False)


class UpkeepWindow(Base):
    """A span in which a machine may not build."""

    __tablename__ = "upkeep_window"
    id: Mapped[int] = mapped_column(primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    end_at: Mapped[datetime] = mapped_column(UtcTime)
    text: Mapped[str] = mapped_column(String(200), default="")
    __table_args__ = (CheckConstraint("end_at > begin_at", name="upkeep_ends_after_it_begins"),)


class Job(Base):
    """Pieces of a part or of one file that are wanted. `line` is its place in the queue, lowest first."""

    __tablename__ = "job"
    id: Mapped[int] = mapped_column(primary_key=True)
    file_id: Mapped[int | None] = mapped_column(ForeignKey("file.id"))
    part_id: Mapped[int | None] = mapped_column(ForeignKey("part.id"))
    pinned: Mapped[int | None] = mapped_column(Integer)
    """The revision all copies are made from; without one each is made from the newest."""
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
    created_by: Mapped[str] = mapped_column(String(120))
    __table_args__ = (
        Index("job_of_order", "order_id"),
        CheckConstraint("(file_id is null) <> (part_id is null)", name="a_job_is_for_a_file_or_a_part"),
    )


class Build(Base):
    __tablename__ = "build"
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
    judged_by: Mapped[str] = mapped_column(String(120), default="")
    pieces: Mapped[int] = mapped_column(Integer, default=1)
    good_pieces: Mapped[int | None] = mapped_column(Integer)
    """How many of its pieces were judged good; null while nobody has judged."""
    let_go: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether the machine let go of it by itself."""
    photo: Mapped[str | None] = mapped_column(ForeignKey("blob.sha256"))
    """A picture that somebody took of what went wrong."""
    commands: Mapped[int] = mapped_column(BigInteger)
    acknowledged: Mapped[int] = mapped_column(BigInteger, default=0)
    planned_s: Mapped[float] = mapped_column(Float(53))
    grams: Mapped[float] = mapped_column(Float(53), default=0.0)
    skips: Mapped[list[dict[str, Any]]] = mapped_column(JSON, default=list)
    """Objects that hands left out under way, each with the layer it is missing from on."""
    fed_sha256: Mapped[str | None] = mapped_column(ForeignKey("blob.sha256"))
    """The edited content it goes on with; null while the file is fed as it is."""
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
        Index("build_of_file", "file_id"),
    )


class Ledger(Base):
    """One machine in one state from `begin_at` up to `end_at`; the last interval ends in the year 9999."""

    __tablename__ = "ledger"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    state: Mapped[str] = mapped_column(String(12))
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    end_at: Mapped[datetime] = mapped_column(UtcTime)
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    __table_args__ = (Index("ledger_of_machine", "machine_id", "end_at"),)


class Reading(Base):
    """Heat over time, °C."""

    __tablename__ = "reading"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    nozzle_c: Mapped[float | None] = mapped_column(Float)
    nozzle_asked_c: Mapped[float | None] = mapped_column(Float)
    bed_c: Mapped[float | None] = mapped_column(Float)
    bed_asked_c: Mapped[float | None] = mapped_column(Float)
    chamber_c: Mapped[float | None] = mapped_column(Float)
    chamber_asked_c: Mapped[float | None] = mapped_column(Float)


class BuildChange(Base):
    """What hands changed of a running build."""

    __tablename__ = "build_change"
    id: Mapped[int] = mapped_column(primary_key=True)
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    at: Mapped[datetime] = mapped_column(UtcTime)
    text: Mapped[str] = mapped_column(String(300))
    by: Mapped[str] = mapped_column(String(120))
    __table_args__ = (Index("change_of_build", "build_id"),)


class LevelMap(Base):
    """How level a machine's bed was: rows of heights in mm, from front to back."""

    __tablename__ = "level_map"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    rows: Mapped[list[list[float]]] = mapped_column(JSON)


class Notice(Base):
    __tablename__ = "notice"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime)
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"))
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    severity: Mapped[str] = mapped_column(String(8))
    text: Mapped[str] = mapped_column(Text)
    seen: Mapped[bool] = mapped_column(Boolean, default=False)
