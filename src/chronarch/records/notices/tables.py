"""Notices, who hears of them, and over which channels each was told."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Computed,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    String,
    Text,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from chronarch.records.base import Base, SignedBy, UtcTime


class Notice(Base):
    """Something that people should know. Open until it is over; of each cause one is open at most."""

    __tablename__ = "notice"
    __change__ = "notices"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime)
    kind: Mapped[str] = mapped_column(String(20))
    gravity: Mapped[str] = mapped_column(String(8))
    text: Mapped[str] = mapped_column(Text)
    cause: Mapped[str] = mapped_column(String(120), default="")
    """What it is open for; empty when it is simply said."""
    count: Mapped[int | None] = mapped_column(Integer)
    """Its figure: percent, or minutes."""
    machine_id: Mapped[int | None] = mapped_column(ForeignKey("machine.id"))
    build_id: Mapped[int | None] = mapped_column(ForeignKey("build.id"))
    order_id: Mapped[int | None] = mapped_column(ForeignKey("customer_order.id"))
    job_id: Mapped[int | None] = mapped_column(ForeignKey("job.id"))
    spool_id: Mapped[int | None] = mapped_column(ForeignKey("spool.id"))
    suspicion_id: Mapped[int | None] = mapped_column(ForeignKey("suspicion.id"))
    frame_id: Mapped[int | None] = mapped_column(ForeignKey("frame.id", ondelete="SET NULL"))
    tender: Mapped[str] = mapped_column(String(60), default="")
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    """The one person whom it concerns; null when it may concern everybody."""
    taken_at: Mapped[datetime | None] = mapped_column(UtcTime)
    taken_by: Mapped[str] = mapped_column(SignedBy(), default="")
    taker_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    closed_at: Mapped[datetime | None] = mapped_column(UtcTime)
    closed_by: Mapped[str] = mapped_column(SignedBy(), default="")
    """The person who closed it; empty when its cause was gone."""
    routed: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether it is decided who hears of it."""
    open_cause: Mapped[str | None] = mapped_column(
        String(120), Computed("if(closed_at is null and cause <> '', cause, null)", persisted=True)
    )
    __table_args__ = (
        UniqueConstraint("open_cause", name="one_open_notice_a_cause"),
        Index("notice_cause", "cause"),
        Index("notice_open", "closed_at", "id"),
        Index("notice_routed", "routed"),
        Index("notice_at", "at"),
    )


class NoticeRule(Base):
    """What a person, or the shop, wants to hear of."""

    __tablename__ = "notice_rule"
    __change__ = "notice-rules"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    """Whose rule it is; null for the shop's."""
    rule: Mapped[dict[str, Any]] = mapped_column(JSON)


class Channel(Base):
    """A way to reach a person, or the shop. `access` is where it leads with what that asks for, encrypted."""

    __tablename__ = "channel"
    __change__ = "channels"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    kind: Mapped[str] = mapped_column(String(10))
    name: Mapped[str] = mapped_column(String(60))
    shown: Mapped[str] = mapped_column(String(500))
    """Where it leads, without secrets."""
    access: Mapped[bytes] = mapped_column(LargeBinary(8000))
    on: Mapped[bool] = mapped_column(Boolean, default=True)
    tries: Mapped[int] = mapped_column(Integer, default=0)
    """How often it has failed since it last reached somebody."""
    next_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """When it is tried again, real time; null when it is not failing."""
    failing_since: Mapped[datetime | None] = mapped_column(UtcTime)
    """Real time."""
    problem: Mapped[str] = mapped_column(String(300), default="")
    added_at: Mapped[datetime] = mapped_column(UtcTime)


class Delivery(Base):
    """Something of a notice that is told over a channel once: that it was opened, taken, or is over."""

    __tablename__ = "delivery"
    __change__ = "deliveries"
    __subject__ = "channel_id"
    id: Mapped[int] = mapped_column(primary_key=True)
    notice_id: Mapped[int] = mapped_column(ForeignKey("notice.id"))
    channel_id: Mapped[int] = mapped_column(ForeignKey("channel.id", ondelete="CASCADE"))
    what: Mapped[str] = mapped_column(String(8))
    due_at: Mapped[datetime] = mapped_column(UtcTime)
    """Shop time."""
    state: Mapped[str] = mapped_column(String(8))
    message: Mapped[str] = mapped_column(String(36), default="")
    """The message that it was part of."""
    tries: Mapped[int] = mapped_column(Integer, default=0)
    repeated: Mapped[bool] = mapped_column(Boolean, default=False)
    """Whether it may have been told before, because nobody knows how the try before ended."""
    first_try_at: Mapped[datetime | None] = mapped_column(UtcTime)
    sent_at: Mapped[datetime | None] = mapped_column(UtcTime)
    """Real time, both."""
    answer: Mapped[str] = mapped_column(String(300), default="")
    __table_args__ = (
        UniqueConstraint("notice_id", "channel_id", "what", name="told_once_a_channel"),
        Index("delivery_waiting", "state", "channel_id", "due_at"),
        Index("delivery_sent", "channel_id", "sent_at"),
        Index("delivery_due", "due_at"),
    )


class DeliveryTry(Base):
    """One try to send a message over a channel, and what was answered."""

    __tablename__ = "delivery_try"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    channel_id: Mapped[int] = mapped_column(ForeignKey("channel.id", ondelete="CASCADE"))
    message: Mapped[str] = mapped_column(String(36))
    at: Mapped[datetime] = mapped_column(UtcTime)
    """Real time."""
    notices: Mapped[int] = mapped_column(Integer)
    """How many notices were in it; 0 for a test."""
    subject: Mapped[str] = mapped_column(String(200))
    good: Mapped[bool] = mapped_column(Boolean)
    answer: Mapped[str] = mapped_column(String(300))
    __table_args__ = (Index("try_of_channel", "channel_id", "id"),)


class ActUse(Base):
    """A link of a message that was used: each works once."""

    __tablename__ = "act_use"
    notice_id: Mapped[int] = mapped_column(ForeignKey("notice.id"), primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), primary_key=True)
    act: Mapped[str] = mapped_column(String(12), primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcTime)


class SignInPlace(Base):
    """An address that a person has signed in from."""

    __tablename__ = "sign_in_place"
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), primary_key=True)
    place: Mapped[str] = mapped_column(String(60), primary_key=True)
    last_at: Mapped[datetime] = mapped_column(UtcTime)
