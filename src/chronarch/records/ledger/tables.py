"""The ledger: each machine's states."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Date,
    Float,
    ForeignKey,
    Index,
    Integer,
    Numeric,
    String,
    Text,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


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
    reason: Mapped[str] = mapped_column(String(300), default="")
    """Why it came to that state, if there was something to say."""
    __table_args__ = (Index("ledger_by_end", "machine_id", "end_at", "begin_at", "state", "build_id"),)


class TimeSum:
    """How long a machine was in a state, in intervals that have ended: what reports of long spans add up. `chronarch
    ledger rebuild` makes these rows anew."""

    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    state: Mapped[str] = mapped_column(String(12), primary_key=True)
    day: Mapped[date] = mapped_column(Date, primary_key=True)
    microseconds: Mapped[int] = mapped_column(BigInteger)


class LedgerDay(TimeSum, Base):
    """On a day (UTC)."""

    __tablename__ = "ledger_day"


class LedgerMonth(TimeSum, Base):
    """In a month, which its first day stands for."""

    __tablename__ = "ledger_month"


class BuildStop(Base):
    """Why a build was stopped: each reason once, however often. Written with its intervals, and kept when they are
    rolled up."""

    __tablename__ = "build_stop"
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"), primary_key=True)
    why: Mapped[str] = mapped_column(String(300), primary_key=True)
    __table_args__ = (Index("build_stopped_because", "why", "build_id"),)


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


class ChangePointPass(Base):
    """One pass through the records for what has changed."""

    __tablename__ = "change_point_pass"
    __change__ = "change-points"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime)
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    """From when on was looked."""
    series: Mapped[int] = mapped_column(Integer)
    """How many were long enough to be looked at."""
    named: Mapped[int] = mapped_column(Integer)


class ChangePoint(Base):
    """Something that has changed beyond chance: one row from the pass that found it first until one that no longer
    does. `core/ledger/change_points.py` says what its figures are."""

    __tablename__ = "change_point"
    __change__ = "change-points"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(String(12))
    subject: Mapped[str] = mapped_column(String(120))
    since: Mapped[datetime] = mapped_column(UtcTime)
    before: Mapped[float] = mapped_column(Float(53))
    after: Mapped[float] = mapped_column(Float(53))
    counted_before: Mapped[int] = mapped_column(Integer)
    counted_after: Mapped[int] = mapped_column(Integer)
    size: Mapped[float] = mapped_column(Float(53))
    low: Mapped[float] = mapped_column(Float(53))
    high: Mapped[float] = mapped_column(Float(53))
    chance: Mapped[float] = mapped_column(Float(53))
    found_at: Mapped[datetime] = mapped_column(UtcTime)
    over_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When a pass no longer found it."""
    seen_by: Mapped[str] = mapped_column(SignedBy(), default="")
    seen_at: Mapped[datetime | None] = mapped_column(UtcTime)
    note: Mapped[str] = mapped_column(String(300), default="")
    """What whoever has seen it says of it."""
    __table_args__ = (Index("change_point_of", "over_at", "kind", "subject"),)


class CostRate(Base):
    """A price that holds from a time on."""

    __tablename__ = "cost_rate"
    __change__ = "costs"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(String(10))
    subject: Mapped[str] = mapped_column(String(60), default="")
    since: Mapped[datetime] = mapped_column(UtcTime)
    price: Mapped[Decimal] = mapped_column(Numeric(14, 6))
    hours: Mapped[list[list[Any]]] = mapped_column(JSON, default=list)
    """Other prices for some hours of the day: from, to, price as text."""
    made_of: Mapped[dict[str, str] | None] = mapped_column(JSON)
    """What the price of a machine's hour was worked out from; null where it was typed."""
    set_by: Mapped[str] = mapped_column(SignedBy())
    set_at: Mapped[datetime] = mapped_column(UtcTime)
    __table_args__ = (UniqueConstraint("kind", "subject", "since", name="one_price_at_a_time"),)


class BuildCost(Base):
    """What a build cost, by part; null for what there was no price for, which the total leaves out."""

    __tablename__ = "build_cost"
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"), primary_key=True, autoincrement=False)
    material: Mapped[Decimal | None] = mapped_column(Numeric(14, 4))
    energy: Mapped[Decimal | None] = mapped_column(Numeric(14, 4))
    machine: Mapped[Decimal | None] = mapped_column(Numeric(14, 4))
    hands: Mapped[Decimal | None] = mapped_column(Numeric(14, 4))
    overhead: Mapped[Decimal | None] = mapped_column(Numeric(14, 4))
    total: Mapped[Decimal] = mapped_column(Numeric(14, 4))


class CostWork(Base):
    """How far costs are worked out; one row. All builds up to `done_to` have theirs; those that began at `again_since`
    or later are worked out anew, done up to `again_after`."""

    __tablename__ = "cost_work"
    id: Mapped[int] = mapped_column(primary_key=True)
    done_to: Mapped[int] = mapped_column(Integer, default=0)
    again_since: Mapped[datetime | None] = mapped_column(UtcTime)
    again_after: Mapped[int] = mapped_column(Integer, default=0)


class ReportPlan(Base):
    """A report that comes by itself: how often, of what, to whom."""

    __tablename__ = "report_plan"
    __change__ = "reports"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60))
    every: Mapped[str] = mapped_column(String(8))
    hour: Mapped[int] = mapped_column(Integer)
    site: Mapped[str] = mapped_column(String(60))
    group: Mapped[str] = mapped_column(String(60))
    to: Mapped[list[str]] = mapped_column(JSON)
    """Logins of people and addresses."""
    on: Mapped[bool] = mapped_column(Boolean)
    made_by: Mapped[str] = mapped_column(SignedBy())
    last_end: Mapped[datetime] = mapped_column(UtcTime)
    """The end of the last period that was reported."""
    dropped_at: Mapped[datetime | None] = mapped_column(UtcTime)


class KeptReport(Base):
    """A report as it was made. It is sent to `to` until that is done or given up."""

    __tablename__ = "kept_report"
    __change__ = "reports"
    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("report_plan.id"))
    name: Mapped[str] = mapped_column(String(160))
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    end_at: Mapped[datetime] = mapped_column(UtcTime)
    made_at: Mapped[datetime] = mapped_column(UtcTime)
    asked_by: Mapped[str] = mapped_column(SignedBy())
    """Who had it sent; empty where it came by itself."""
    page: Mapped[str] = mapped_column(Text(2**24))
    words: Mapped[str] = mapped_column(Text(2**24))
    rows: Mapped[str] = mapped_column(Text(2**24))
    to: Mapped[list[str]] = mapped_column(JSON)
    """Addresses that it is still to be sent to."""
    sent: Mapped[list[str]] = mapped_column(JSON)
    trouble: Mapped[str] = mapped_column(String(300))
    tries: Mapped[int] = mapped_column(Integer)
    next_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When it is tried again, real time; null when nothing is to be sent any more."""
    __table_args__ = (Index("report_of_plan", "plan_id", "id"), Index("report_to_send", "next_at"))
