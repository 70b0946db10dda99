"""What is to be told over which channel, and how that went."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from enum import StrEnum

from sqlalchemy import delete, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.notices.tables import Channel, Delivery, DeliveryTry, Notice

TRIES_KEPT = 500
"""Of each channel."""


class What(StrEnum):
    """What of a notice is told."""

    OPENED = "opened"
    TAKEN = "taken"
    CLOSED = "closed"


class DeliveryState(StrEnum):
    """`sending`: a try is under way, or nobody knows how it ended; `dead`: given up."""

    WAITING = "waiting"
    SENDING = "sending"
    SENT = "sent"
    DEAD = "dead"


OPEN_STATES = (DeliveryState.WAITING, DeliveryState.SENDING)


async def tell(db: AsyncSession, notice: int, channels: dict[int, datetime], what: What) -> None:
    """Have something of a notice told over channels, each not before a time (shop time), where it was not before."""
    if not channels:
        return
    had = select(Delivery.channel_id).where(Delivery.notice_id == notice, Delivery.what == what)
    for channel in sorted(channels.keys() - set((await db.execute(had)).scalars())):
        db.add(
            Delivery(
                notice_id=notice, channel_id=channel, what=what, due_at=channels[channel], state=DeliveryState.WAITING
            )
        )


async def untell(db: AsyncSession, notice: int, what: What) -> None:
    """Something of a notice is not so any more: it is not told where it still waits, and is told anew when it is so
    again."""
    mine = Delivery.notice_id == notice, Delivery.what == what
    if (await db.execute(select(Delivery.id).where(*mine).limit(1))).scalar() is not None:
        await db.execute(delete(Delivery).where(*mine))


async def heard_of(db: AsyncSession, notice: int) -> Sequence[Channel]:
    """The channels over which the opening of a notice was told."""
    query = (
        select(Channel)
        .join(Delivery, Delivery.channel_id == Channel.id)
        .where(Delivery.notice_id == notice, Delivery.what == What.OPENED, Delivery.state == DeliveryState.SENT)
    )
    return (await db.execute(query)).scalars().all()


async def due_channels(db: AsyncSession, now: datetime, real_now: datetime) -> list[int]:
    """Channels that have something to tell at shop time `now`, and are not to be left alone for a while."""
    query = (
        select(Delivery.channel_id)
        .join(Channel, Channel.id == Delivery.channel_id)
        .where(Delivery.state.in_(OPEN_STATES), Delivery.due_at <= now, Channel.on)
        .where((Channel.next_at.is_(None)) | (Channel.next_at <= real_now))
        .distinct()
    )
    return list((await db.execute(query)).scalars())


async def waiting(db: AsyncSession, channel: int, now: datetime, most: int) -> list[tuple[Delivery, Notice]]:
    """What is due over a channel, in the order it came."""
    query = (
        select(Delivery, Notice)
        .join(Notice, Notice.id == Delivery.notice_id)
        .where(Delivery.channel_id == channel, Delivery.state.in_(OPEN_STATES), Delivery.due_at <= now)
        .order_by(Delivery.id)
        .limit(most)
    )
    return [(row[0], row[1]) for row in await db.execute(query)]


async def sent_since(db: AsyncSession, channel: int, since: datetime) -> list[datetime]:
    """When messages were sent over a channel, real time, each message once."""
    query = (
        select(func.min(Delivery.sent_at))
        .where(Delivery.channel_id == channel, Delivery.state == DeliveryState.SENT, Delivery.sent_at > since)
        .group_by(Delivery.message)
    )
    return [at for at in (await db.execute(query)).scalars() if at is not None]


async def forget_tries(db: AsyncSession, channel: int) -> None:
    """Keep only the newest tries of a channel."""
    oldest = select(DeliveryTry.id).where(DeliveryTry.channel_id == channel).order_by(DeliveryTry.id.desc())
    last = (await db.execute(oldest.offset(TRIES_KEPT).limit(1))).scalar()
    if last is not None:
        await db.execute(delete(DeliveryTry).where(DeliveryTry.channel_id == channel, DeliveryTry.id <= last))


async def forget_told(db: AsyncSession, before: datetime, most: int) -> int:
    """Remove what was told, or given up, of before a time (shop time); `most` at most. Returns how many."""
    over = select(Delivery.id).where(Delivery.state.not_in(OPEN_STATES), Delivery.due_at < before).limit(most)
    gone = list((await db.execute(over)).scalars())
    if gone:
        await db.execute(delete(Delivery).where(Delivery.id.in_(gone)))
    return len(gone)


async def counts(db: AsyncSession, channels: Iterable[int], now: datetime) -> dict[int, dict[str, int]]:
    """Of channels: how many deliveries that are due are in each state that is not `sent`."""
    query = (
        select(Delivery.channel_id, Delivery.state, func.count())
        .where(Delivery.channel_id.in_(list(channels)), Delivery.state != DeliveryState.SENT)
        .where(Delivery.due_at <= now)
        .group_by(Delivery.channel_id, Delivery.state)
    )
    found: dict[int, dict[str, int]] = {}
    for channel, state, many in await db.execute(query):
        found.setdefault(channel, {})[state] = many
    return found


async def wake_dead(db: AsyncSession, channel: int) -> int:
    """Have everything that was given up on a channel told after all. Returns how many."""
    row = await db.get_one(Channel, channel, with_for_update=True)
    row.tries, row.next_at, row.failing_since, row.problem = 0, None, None, ""
    done = await db.execute(
        update(Delivery)
        .where(Delivery.channel_id == channel, Delivery.state == DeliveryState.DEAD)
        .values(state=DeliveryState.WAITING, message="", tries=0, first_try_at=None, answer="")
    )
    return int(done.rowcount)  # type: ignore[attr-defined]
