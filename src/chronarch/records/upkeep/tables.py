"""Upkeep: what is to be done at machines when, what was done, and spans in which machines may not build."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import JSON, BigInteger, Boolean, CheckConstraint, Float, ForeignKey, Index, Integer, String, Text
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class UpkeepWindow(Base):
    """A span in which a machine may not build. `task_id`: the task that it is kept free for."""

    __tablename__ = "upkeep_window"
    __change__ = "setup"
    id: Mapped[int] = mapped_column(primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    begin_at: Mapped[datetime] = mapped_column(UtcTime)
    end_at: Mapped[datetime] = mapped_column(UtcTime)
    text: Mapped[str] = mapped_column(String(200), default="")
    task_id: Mapped[int | None] = mapped_column(ForeignKey("upkeep_task.id", name="window_of_task"))
    __table_args__ = (CheckConstraint("end_at > begin_at", name="upkeep_ends_after_it_begins"),)


class UpkeepTask(Base):
    """Something to be done at a machine, at all of a model, or at all, again and again. With a nominal value it is a
    calibration check, which ends with a measured value; with a `part` it is fitting a new one."""

    __tablename__ = "upkeep_task"
    __change__ = "upkeep"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60))
    model_id: Mapped[int | None] = mapped_column(ForeignKey("model.id"))
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"))
    rules: Mapped[dict[str, Any]] = mapped_column(JSON)
    minutes: Mapped[float] = mapped_column(Float(53))
    text: Mapped[str] = mapped_column(Text)
    parts: Mapped[list[str]] = mapped_column(JSON)
    pictures: Mapped[list[str]] = mapped_column(JSON)
    """Hashes of their content."""
    part: Mapped[str] = mapped_column(String(60))
    blocks: Mapped[str] = mapped_column(String(8))
    nominal: Mapped[float | None] = mapped_column(Float(53))
    tolerance: Mapped[float | None] = mapped_column(Float(53))
    unit: Mapped[str] = mapped_column(String(20))
    source: Mapped[str] = mapped_column(String(12))
    """Who measures: a person, or the machine by itself."""
    since: Mapped[datetime] = mapped_column(UtcTime)
    """From when it counts at machines where it was never done."""
    made_by: Mapped[str] = mapped_column(SignedBy())
    dropped_at: Mapped[datetime | None] = mapped_column(UtcTime)


class UpkeepDone(Base):
    """Something that was done at a machine, or measured; it need not have been a task. `odometer` is what the machine
    had done by then, `late` the share of what the task allows that was used, `since_at` when it was done before."""

    __tablename__ = "upkeep_done"
    __change__ = "upkeep"
    id: Mapped[int] = mapped_column(primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"))
    task_id: Mapped[int | None] = mapped_column(ForeignKey("upkeep_task.id"))
    name: Mapped[str] = mapped_column(String(60))
    at: Mapped[datetime] = mapped_column(UtcTime)
    by: Mapped[str] = mapped_column(SignedBy())
    minutes: Mapped[float | None] = mapped_column(Float(53))
    note: Mapped[str] = mapped_column(String(2000))
    parts: Mapped[list[str]] = mapped_column(JSON)
    part: Mapped[str] = mapped_column(String(60))
    worn: Mapped[bool] = mapped_column(Boolean)
    """Whether the part that came off was worn out; else it came off for another reason."""
    value: Mapped[float | None] = mapped_column(Float(53))
    photo: Mapped[str | None] = mapped_column(ForeignKey("blob.sha256"))
    odometer: Mapped[dict[str, Any]] = mapped_column(JSON)
    since_at: Mapped[datetime | None] = mapped_column(UtcTime)
    late: Mapped[float | None] = mapped_column(Float(53))
    __table_args__ = (
        Index("upkeep_of_machine", "machine_id", "at"),
        Index("upkeep_of_task", "task_id", "machine_id", "at"),
        Index("part_of_machine", "part", "machine_id", "at"),
    )


class UpkeepMark(Base):
    """From where a task counts at a machine: when it was done last or it was there first, what the machine had done by
    then, and the faults that came after it. Made anew from the rest wherever it is missing."""

    __tablename__ = "upkeep_mark"
    task_id: Mapped[int] = mapped_column(ForeignKey("upkeep_task.id"), primary_key=True)
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    since: Mapped[datetime] = mapped_column(UtcTime)
    odometer: Mapped[dict[str, Any]] = mapped_column(JSON)
    faults: Mapped[int] = mapped_column(Integer)
    looked_to: Mapped[int] = mapped_column(BigInteger)
    """The number of the last interval of the ledger that was looked at."""
