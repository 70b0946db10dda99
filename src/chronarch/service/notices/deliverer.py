"""Sends what is due over each channel, in order, and again until it is taken or given up."""

from __future__ import annotations

import asyncio
import logging
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import partial
from typing import Annotated

from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.core.notices.pacing import GIVEN_UP_AFTER, MOST_IN_ONE, WITHIN, Waiting, next_message, tried_again_at
from chronarch.records import tables as t
from chronarch.records.notices import telling
from chronarch.records.notices.telling import DeliveryState, What
from chronarch.service.changes import Watch
from chronarch.service.context import ServiceContext, part
from chronarch.service.notices.channels.sending import Gone, NotSent, Refused, Sender, Sending, Unsure
from chronarch.service.notices.messages import Message, MessagePart, MessageWriter
from chronarch.service.notices.settings import load_settings
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.wire.notices.channels import ChannelKind, ChannelTried, StoredNoticeSettings
from chronarch.wire.notices.notices import Notice

LOOK_EVERY_S, FORGET_EVERY_S = 1.0, 20.0
TOLD_KEPT, FORGOTTEN_AT_ONCE = timedelta(days=60), 1000
"""How long it is known to whom something was told, shop time."""
AT_ONCE = 20
"""So many channels are sent over at the same time."""
log = logging.getLogger("chronarch.notices")
Told = list[tuple[t.Delivery, t.Notice]]


@dataclass
class Deliverer:
    """`changed` wakes it when something is due."""

    context: ServiceContext
    writer: MessageWriter
    secrets: Secrets
    senders: dict[ChannelKind, Sender]
    changed: Watch
    _busy: dict[int, asyncio.Task[None]] = field(default_factory=dict)

    async def look(self) -> None:
        """Begin with every channel that has something due."""
        self.changed.take()
        now, real_now = self.context.clock.now(), self.context.clock.real_now()
        async with self.context.sessions() as db:
            due = await telling.due_channels(db, now, real_now)
        for channel in due:
            if channel not in self._busy and len(self._busy) < AT_ONCE:
                task = self._busy[channel] = asyncio.create_task(self._empty(channel))
                task.add_done_callback(partial(self._free, channel))

    def _free(self, channel: int, _: asyncio.Task[None]) -> None:
        self._busy.pop(channel, None)

    async def forget(self) -> None:
        """Remove what was told long ago; the notices themselves stay."""
        before, gone = self.context.clock.now() - TOLD_KEPT, FORGOTTEN_AT_ONCE
        while gone == FORGOTTEN_AT_ONCE:
            async with self.context.sessions() as db:
                gone = await telling.forget_told(db, before, FORGOTTEN_AT_ONCE)
                await db.commit()

    async def close(self) -> None:
        """Give up what is under way: it is sent again after the next start, as perhaps repeated."""
        tasks = list(self._busy.values())
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _empty(self, channel: int) -> None:
        """Send message after message over a channel until nothing is due, or it has to wait."""
        try:
            while await self._send_next(channel):
                pass
        except Exception:
            log.exception("channel %d went wrong; it is tried again", channel)
            await asyncio.sleep(LOOK_EVERY_S)

    async def _send_next(self, channel: int) -> bool:
        """Send one message. Returns whether there may be another to send at once."""
        async with self.context.sessions() as db:
            row = await db.get(t.Channel, channel)
            if row is None or not row.on:
                return False
            if row.kind == ChannelKind.PAGE:
                return await self._show(db, channel)
            told = await self._take(db, row, self.senders[ChannelKind(row.kind)].gathers)
            if not told:
                return False
            settings = await load_settings(db)
            message = await self._written(db, row, told, settings.address)
            await db.commit()
        if message is None:
            return True
        good, answer, kind = await self._try(row, message, settings)
        await self._note(channel, [d.id for d, _ in told], message, answer, kind)
        return good or kind is Refused

    async def _written(self, db: AsyncSession, channel: t.Channel, told: Told, address: str) -> Message | None:
        """What is told as one message. What cannot be written must not hold up the next, and becomes a dead letter."""
        try:
            return await self.writer.write(db, channel, told, address)
        except SQLAlchemyError:
            raise
        except Exception as error:
            log.exception("a message over channel %d cannot be written", channel.id)
            for delivery, _ in told:
                delivery.state = DeliveryState.DEAD
                delivery.answer = f"it could not be written ({type(error).__name__})"
            return None

    async def _show(self, db: AsyncSession, channel: int) -> bool:
        """The page hears of what is due from the change log."""
        due = await telling.waiting(db, channel, self.context.clock.now(), MOST_IN_ONE)
        for delivery, _ in due:
            delivery.state, delivery.sent_at = DeliveryState.SENT, self.context.clock.real_now()
        await db.commit()
        return len(due) == MOST_IN_ONE

    async def _take(self, db: AsyncSession, channel: t.Channel, gathers: bool) -> Told:
        """What the next message is made of, marked as under way."""
        real_now = self.context.clock.real_now()
        due = await telling.waiting(db, channel.id, self.context.clock.now(), MOST_IN_ONE)
        under_way = [(d, n) for d, n in due if d.state == DeliveryState.SENDING]
        if under_way:  # the service ended, or nobody knows how the try ended: the very same message again
            told = [(d, n) for d, n in under_way if d.message == under_way[0][0].message]
            for delivery, _ in told:
                delivery.repeated, delivery.tries = True, delivery.tries + 1
            return told
        chosen: Sequence[int]
        if gathers:
            sent = await telling.sent_since(db, channel.id, real_now - WITHIN)
            chosen = next_message([Waiting(d.id, Gravity(n.gravity)) for d, n in due], sent, real_now)
        else:
            chosen = [d.id for d, _ in due[:1]]
        told = [(d, n) for d, n in due if d.id in set(chosen)]
        message = str(uuid.uuid4())
        for delivery, _ in told:
            delivery.state, delivery.message, delivery.tries = DeliveryState.SENDING, message, delivery.tries + 1
            delivery.first_try_at = delivery.first_try_at or real_now
        return told

    async def _try(
        self, channel: t.Channel, message: Message, settings: StoredNoticeSettings
    ) -> tuple[bool, str, type[NotSent] | None]:
        """Try to send. Returns whether it was taken, what was answered, and how it failed."""
        try:
            access = self.secrets.open(channel.access) if channel.access else ""
            sending = Sending(message, channel, access, settings)
            return True, (await self.senders[ChannelKind(channel.kind)].send(sending))[:300], None
        except SecretLost as lost:
            return False, f"where it leads is lost: {lost}"[:300], NotSent
        except NotSent as error:
            return False, str(error)[:300], type(error)
        except Exception as error:
            log.exception("sending over channel %d went wrong", channel.id)
            return False, f"it could not be sent ({type(error).__name__})", Unsure

    async def _note(
        self, channel: int, told: list[int], message: Message, answer: str, kind: type[NotSent] | None
    ) -> None:
        """Write down how a try went."""
        now = self.context.clock.real_now()
        async with self.context.sessions() as db:
            row = await db.get(t.Channel, channel, with_for_update=True)
            if row is None:
                return  # it was removed meanwhile
            for number in told:
                delivery = await db.get_one(t.Delivery, number)
                delivery.answer = answer
                over = delivery.first_try_at is not None and now - delivery.first_try_at > GIVEN_UP_AFTER
                if kind is None:
                    delivery.state, delivery.sent_at = DeliveryState.SENT, now
                elif kind in (Refused, Gone) or over:
                    delivery.state = DeliveryState.DEAD
                elif kind is not Unsure:
                    delivery.state, delivery.message = DeliveryState.WAITING, ""
            if kind is None:
                row.tries, row.next_at, row.failing_since, row.problem = 0, None, None, ""
            elif kind is Gone:
                row.on, row.problem, row.failing_since = False, answer, now
            elif kind is not Refused:
                row.tries += 1
                row.next_at, row.problem = tried_again_at(row.tries, now), answer
                row.failing_since = row.failing_since or now
            await self._log(db, channel, message, answer, now, good=kind is None)
            await db.commit()

    async def _log(
        self, db: AsyncSession, channel: int, message: Message, answer: str, now: datetime, *, good: bool
    ) -> None:
        many = 0 if message.test else len(message.parts)
        db.add(
            t.DeliveryTry(
                channel_id=channel, message=message.id, at=now, notices=many, subject=message.subject[:200], good=good,
                answer=answer,
            )
        )  # fmt: skip
        await telling.forget_tries(db, channel)

    async def test(self, channel: t.Channel) -> ChannelTried:
        """Send a test message now."""
        began_s, now = self.context.clock.monotonic_s(), self.context.clock.now()
        async with self.context.sessions() as db:
            settings = await load_settings(db)
        said = Notice(id=0, at=now, kind=NoticeKind.SERVICE, gravity=Gravity.NOTE, text="A test; nothing has happened.")
        part = MessagePart(0, What.OPENED, said, "", "", settings.address)
        parts = (part,) if channel.kind == ChannelKind.WEBHOOK else ()
        message = Message(str(uuid.uuid4()), self.context.shop.name, parts, address=settings.address, test=True, at=now)
        good, answer, _ = await self._try(channel, message, settings)
        async with self.context.sessions() as db:
            await self._log(db, channel.id, message, answer, self.context.clock.real_now(), good=good)
            row = await db.get(t.Channel, channel.id, with_for_update=True)
            if good and row is not None and row.tries:
                row.tries, row.next_at, row.failing_since, row.problem = 0, None, None, ""
            await db.commit()
        return ChannelTried(good=good, answer=answer, took_s=self.context.clock.monotonic_s() - began_s)


TheDeliverer = Annotated[Deliverer, part(Deliverer)]
