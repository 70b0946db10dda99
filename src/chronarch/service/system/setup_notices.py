"""How people are reached, in a set-up file: the shop's mail and chat, and its channels that have no secrets."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from functools import partial

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.notices import setting_up
from chronarch.service.notices.leads import Asked, lead
from chronarch.service.notices.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.service.system.setup_changes import PlannedChange, difference
from chronarch.wire.notices.channels import (
    ChannelKind,
    ChatAccount,
    MailServer,
    NewChannel,
    NoticeSettingsUpdate,
    ReachSettings,
    StoredNoticeSettings,
)
from chronarch.wire.system import setup_file as w

OPEN_CHANNELS = ChannelKind.MAIL, ChannelKind.ROOM
"""Kinds whose addresses may be seen."""
ACCOUNTS = MailServer, ChatAccount
InOne = Callable[..., Awaitable[None]]
"""Changes something in a transaction of its own."""


@dataclass(frozen=True)
class SetupNotices:
    """Compares them with what is set."""

    context: ServiceContext
    secrets: Secrets

    async def kept(self, db: AsyncSession) -> tuple[ReachSettings, list[w.ChannelPart]]:
        return _reach(await load_settings(db)), [_channel(row) for row in await self._channels_now(db)]

    async def settings(self, document: w.SetupDocument, in_one: InOne) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            stored = await load_settings(db)
        asked, kept = document.notices, _reach(stored)
        wanted = kept.model_copy(update={name: getattr(asked, name) for name in asked.model_fields_set})
        seen = {name: one.model_copy(update={"password": None}) for name, one in wanted if isinstance(one, ACCOUNTS)}
        told = wanted.model_copy(update={**seen, "address": (wanted.address or "").rstrip("/")})
        what = [difference(kept, told)] if told != kept else []
        for name, sealed in (("mail", stored.mail_password), ("chat", stored.chat_password)):
            one = getattr(asked, name)
            if one is not None and one.password and one.password != self._opened(sealed):
                what.append(f"{name}: its password")
        if what:
            change = NoticeSettingsUpdate(**dict(asked))
            do = partial(in_one, setting_up.change_settings, change, self.secrets)
            yield PlannedChange("notices", "; ".join(what), do)

    async def channels(self, document: w.SetupDocument, in_one: InOne) -> AsyncIterator[PlannedChange]:
        async with self.context.sessions() as db:
            now = {(row.kind, row.shown): row for row in await self._channels_now(db)}
            stored = await load_settings(db)
        once: set[tuple[ChannelKind, str]] = set()
        for one in document.channels:
            found = await lead(one.kind, Asked(one.address, stored))
            key, about = (one.kind, found.shown), f"channel {found.shown}"
            if key in once:
                raise ApiProblem(422, f"{about} is there twice.")
            once.add(key)
            row = now.get(key)
            if row is None:
                asked = NewChannel(kind=one.kind, name=one.name, address=one.address)
                do = partial(in_one, partial(setting_up.add_channel, self.context), self.secrets, None, asked)
                yield PlannedChange(about, "is added", do)
            elif one.name and one.name != row.name:
                what = difference(_channel(row), _channel(row).model_copy(update={"name": one.name}))
                yield PlannedChange(about, what, partial(in_one, setting_up.name_channel, row.id, one.name))

    async def _channels_now(self, db: AsyncSession) -> list[t.Channel]:
        """Those of the shop that have no secrets."""
        query = select(t.Channel).where(t.Channel.person_id.is_(None), t.Channel.kind.in_(OPEN_CHANNELS))
        return list((await db.execute(query.order_by(t.Channel.id))).scalars())

    def _opened(self, sealed: str) -> str:
        try:
            return self.secrets.open(sealed.encode()) if sealed else ""
        except SecretLost:
            return ""


def _reach(stored: StoredNoticeSettings) -> ReachSettings:
    """Without passwords."""
    return ReachSettings.model_validate(
        {
            **stored.model_dump(include={"address", "local_webhooks", "spool_low_g"}),
            "mail": stored.mail.model_dump(exclude={"has_password"}) if stored.mail else None,
            "chat": stored.chat.model_dump(exclude={"has_password"}) if stored.chat else None,
        }
    )


def _channel(row: t.Channel) -> w.ChannelPart:
    return w.ChannelPart.model_validate({"kind": row.kind, "address": row.shown, "name": row.name})
