"""Models, machines, spools, readings and bed meshes."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import (
    JSON,
    Boolean,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    Numeric,
    String,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Model(Base):
    __tablename__ = "model"
    __change__ = "models"
    __subject__ = "name"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    spec: Mapped[dict[str, Any]] = mapped_column(JSON)


class Machine(Base):
    __tablename__ = "machine"
    __change__ = "machines"
    __subject__ = "name"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    model_id: Mapped[int] = mapped_column(ForeignKey("model.id"))
    tender_id: Mapped[int] = mapped_column(ForeignKey("tender.id"))
    link: Mapped[str] = mapped_column(String(300))
    device: Mapped[str] = mapped_column(String(400), unique=True)
    """The device behind the address, so that no two machines share it."""
    intake: Mapped[str] = mapped_column(String(10))
    tools: Mapped[list[dict[str, Any]]] = mapped_column(JSON)
    state: Mapped[str] = mapped_column(String(12))
    since: Mapped[datetime] = mapped_column(UtcTime)
    reason: Mapped[str] = mapped_column(String(300), default="")
    site: Mapped[str] = mapped_column(String(60), default="")
    place: Mapped[str] = mapped_column(String(40), default="")
    """Its place in the room, for example `A2`."""
    pools: Mapped[list[str]] = mapped_column(JSON, default=list)
    tags: Mapped[list[str]] = mapped_column(JSON, default=list)
    releases_left: Mapped[int] = mapped_column(Integer, default=0)
    """How many parts in a row it may still release while nobody is there."""
    release_stuck: Mapped[str] = mapped_column(String(300), default="")
    """Why it could not release its last part; empty when it could, or was not asked."""
    ledger_rolled_to: Mapped[datetime | None] = mapped_column(UtcTime)
    """Up to when days tell its ledger, no longer intervals; null where intervals tell all."""
    unsure: Mapped[int | None] = mapped_column(Integer)
    """In doubt since the records were restored: its tender has still to tell what became of it, and is asked by this
    number, which grows with each time; null where the records are sure."""
    reversed_axes: Mapped[str | None] = mapped_column(String(3))
    """Its axes that move the other way round, as somebody has seen; null where they are its model's."""
    photo: Mapped[str | None] = mapped_column(ForeignKey("blob.sha256", name="machine_photo"))
    """A picture by which it is known at a glance."""
    strange_build: Mapped[int | None] = mapped_column(Integer)
    """The number of a build on its bed that restored records do not know; null while there is none."""


class PlugProfile(Base):
    """How plugs of one make are read and turned."""

    __tablename__ = "plug_profile"
    __change__ = "setup"
    __subject__ = "name"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    spec: Mapped[dict[str, Any]] = mapped_column(JSON)


class Plug(Base):
    """The plug that a machine hangs on. `access` is its whole address with what it asks for, encrypted."""

    __tablename__ = "plug"
    __change__ = "machines"
    __subject__ = "machine_id"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    profile_id: Mapped[int] = mapped_column(ForeignKey("plug_profile.id"))
    shown: Mapped[str] = mapped_column(String(300))
    login: Mapped[str] = mapped_column(String(120), default="")
    has_password: Mapped[bool] = mapped_column(Boolean, default=False)
    access: Mapped[bytes] = mapped_column(LargeBinary(4000))
    rules: Mapped[dict[str, Any]] = mapped_column(JSON)
    off_by_itself: Mapped[bool] = mapped_column(Boolean, default=False)


class Material(Base):
    """A material of the shop's own, or a usual one with its own figures."""

    __tablename__ = "material"
    __change__ = "materials"
    name: Mapped[str] = mapped_column(String(60), primary_key=True)
    density_g_cm3: Mapped[float] = mapped_column(Float(53))
    nozzle_c: Mapped[float] = mapped_column(Float(53))
    bed_c: Mapped[float] = mapped_column(Float(53))
    diameter_mm: Mapped[float] = mapped_column(Float(53))


class Spool(Base):
    """One reel in one colour. On a tool of a machine, or on the shelf."""

    __tablename__ = "spool"
    __change__ = "spools"
    id: Mapped[int] = mapped_column(primary_key=True)
    material: Mapped[str] = mapped_column(String(60))
    colour: Mapped[str] = mapped_column(String(60))
    grams_full: Mapped[float] = mapped_column(Float(53))
    grams_left: Mapped[float] = mapped_column(Float(53))
    price: Mapped[Decimal | None] = mapped_column(Numeric(14, 4))
    """Of the whole spool; null where the material's price holds."""
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"))
    tool: Mapped[int | None] = mapped_column(Integer)
    place: Mapped[str] = mapped_column(String(60), default="")
    finished: Mapped[bool] = mapped_column(Boolean, default=False)
    added_at: Mapped[datetime] = mapped_column(UtcTime)
    __table_args__ = (UniqueConstraint("machine_id", "tool", name="one_spool_a_tool"),)


class SpoolChange(Base):
    """What was taken from a spool, or what weighing showed."""

    __tablename__ = "spool_change"
    id: Mapped[int] = mapped_column(primary_key=True)
    spool_id: Mapped[int] = mapped_column(ForeignKey("spool.id"))
    at: Mapped[datetime] = mapped_column(UtcTime)
    grams: Mapped[float] = mapped_column(Float(53))
    """By how many grams it changed."""
    text: Mapped[str] = mapped_column(String(300))
    by: Mapped[str] = mapped_column(SignedBy())
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    """The build that took it; null for what people weighed."""
    __table_args__ = (
        Index("change_of_spool", "spool_id"),
        UniqueConstraint("build_id", "spool_id", name="one_use_a_build"),
    )


class HeatReading(Base):
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
    power_w: Mapped[float | None] = mapped_column(Float)
    fan_pct: Mapped[float | None] = mapped_column(Float)


class MeanReading(Base):
    """Heat over `span_s` seconds from `at` on, °C: mean, least and most that was measured, and what was asked."""

    __tablename__ = "reading_mean"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    span_s: Mapped[int] = mapped_column(Integer, primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    nozzle_c: Mapped[float | None] = mapped_column(Float)
    nozzle_least_c: Mapped[float | None] = mapped_column(Float)
    nozzle_most_c: Mapped[float | None] = mapped_column(Float)
    nozzle_asked_c: Mapped[float | None] = mapped_column(Float)
    bed_c: Mapped[float | None] = mapped_column(Float)
    bed_least_c: Mapped[float | None] = mapped_column(Float)
    bed_most_c: Mapped[float | None] = mapped_column(Float)
    bed_asked_c: Mapped[float | None] = mapped_column(Float)
    chamber_c: Mapped[float | None] = mapped_column(Float)
    chamber_least_c: Mapped[float | None] = mapped_column(Float)
    chamber_most_c: Mapped[float | None] = mapped_column(Float)
    chamber_asked_c: Mapped[float | None] = mapped_column(Float)
    power_w: Mapped[float | None] = mapped_column(Float)
    fan_pct: Mapped[float | None] = mapped_column(Float)


class SensorReading(Base):
    """Heat over time of what else a machine measures, by the name of the sensor, °C."""

    __tablename__ = "sensor_reading"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    sensor: Mapped[str] = mapped_column(String(20), primary_key=True)
    c: Mapped[float | None] = mapped_column(Float)
    asked_c: Mapped[float | None] = mapped_column(Float)


class MeanSensorReading(Base):
    """The same over `span_s` seconds from `at` on: mean, least and most that was measured, and what was asked."""

    __tablename__ = "sensor_mean"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    span_s: Mapped[int] = mapped_column(Integer, primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    sensor: Mapped[str] = mapped_column(String(20), primary_key=True)
    c: Mapped[float | None] = mapped_column(Float)
    least_c: Mapped[float | None] = mapped_column(Float)
    most_c: Mapped[float | None] = mapped_column(Float)
    asked_c: Mapped[float | None] = mapped_column(Float)


class MachineFirmware(Base):
    """What a machine said of itself from a time on: its firmware with version, further words, and what it can do."""

    __tablename__ = "machine_firmware"
    __change__ = "machines"
    __subject__ = "machine_id"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    firmware: Mapped[str] = mapped_column(String(200))
    words: Mapped[dict[str, str]] = mapped_column(JSON)
    capabilities: Mapped[dict[str, bool]] = mapped_column(JSON)


class MachineSettings(Base):
    """What a machine had stored, from a time on until it told otherwise: values by name. `told_at` is when it told
    that last."""

    __tablename__ = "machine_settings"
    __change__ = "machines"
    __subject__ = "machine_id"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    told_at: Mapped[datetime] = mapped_column(UtcTime)
    values: Mapped[dict[str, float]] = mapped_column(JSON)


class WantedFirmware(Base):
    """The firmware that the shop wants on all machines of a model."""

    __tablename__ = "wanted_firmware"
    __change__ = "setup"
    model_id: Mapped[int] = mapped_column(ForeignKey("model.id"), primary_key=True)
    firmware: Mapped[str] = mapped_column(String(200))
    set_by: Mapped[str] = mapped_column(SignedBy())
    set_at: Mapped[datetime] = mapped_column(UtcTime)


class BedMesh(Base):
    """How level a machine's bed was: rows of heights in mm, from front to back."""

    __tablename__ = "level_map"
    __change__ = "machines"
    __subject__ = "machine_id"
    machine_id: Mapped[int] = mapped_column(ForeignKey("machine.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime, primary_key=True)
    rows: Mapped[list[list[float]]] = mapped_column(JSON)
