"""Has the shop reach people: its mail and chat, and the channels."""

from __future__ import annotations

from contextlib import suppress

from pydantic_core import to_jsonable_python
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import Gravity
from chronarch.core.notices.notice_rules import DEFAULT_RULE, NoticeRule
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.notices.channels.chat import chat_address
from chronarch.service.notices.channels.push import PushAccess
from chronarch.service.notices.channels.webhook import new_secret
from chronarch.service.notices.leads import Asked, lead
from chronarch.service.notices.settings import NAME, load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.wire.common import fill
from chronarch.wire.notices import channels as w
from chronarch.wire.notices.channels import ChannelKind

MOST_CHANNELS = 20


async def change_settings(db: AsyncSession, change: w.NoticeSettingsUpdate, sealing: Secrets) -> w.StoredNoticeSettings:
    """Change some of what the shop has decided. A password that is not given stays, unless the server or the sign-in
    is another. Raises ApiProblem (422)."""
    stored = await load_settings(db)
    for name in ("local_webhooks", "spool_low_g"):
        if (value := getattr(change, name)) is not None:
            setattr(stored, name, value)
    if change.address is not None:
        stored.address = change.address.rstrip("/")
    if "mail" in (change.without or ()):
        stored.mail, stored.mail_password = None, ""
    if "chat" in (change.without or ()):
        stored.chat, stored.chat_password = None, ""
    if change.mail is not None:
        before, asked = stored.mail, change.mail
        same = before is not None and (before.host, before.login) == (asked.host, asked.login)
        stored.mail_password = _password(asked.password, stored.mail_password if same else "", sealing)
        stored.mail = fill(w.MailServerView, asked, has_password=bool(stored.mail_password))
    if change.chat is not None:
        had, account = stored.chat, _account(change.chat)
        same = had is not None and (had.address, had.host) == (account.address, account.host)
        stored.chat_password = _password(account.password, stored.chat_password if same else "", sealing)
        stored.chat = fill(w.ChatAccountView, account, has_password=bool(stored.chat_password))
    await db.merge(t.Setting(name=NAME, value=to_jsonable_python(stored)))
    return stored


def _account(asked: w.ChatAccount) -> w.ChatAccount:
    """Raises ApiProblem (422)."""
    try:
        return asked.model_copy(update={"address": chat_address(asked.address)})
    except ValueError as error:
        raise ApiProblem(422, f"{error}.") from None


def _password(asked: str | None, before: str, sealing: Secrets) -> str:
    """Encrypted; empty without one. None is the one before."""
    return before if asked is None else sealing.seal(asked).decode() if asked else ""


async def add_channel(
    context: ServiceContext, db: AsyncSession, sealing: Secrets, owner: int | None, asked: w.NewChannel
) -> tuple[t.Channel, str]:
    """A channel with a rule that tells over it, and a webhook's secret: a person of what asks for hands, the shop of
    everything. A browser that subscribes once more has its own again. Raises ApiProblem (409, 422)."""
    if asked.kind is ChannelKind.PUSH and (row := await _same_browser(db, owner, asked.address, sealing)):
        row.on, row.next_at, row.problem, row.failing_since, row.tries = True, None, "", None, 0
        await lead_channel(db, row, sealing, asked.address, [], asked.keys)
        return row, ""
    many = select(func.count()).select_from(t.Channel).where(t.Channel.person_id == owner)
    if (await db.execute(many)).scalar_one() >= MOST_CHANNELS:
        raise ApiProblem(409, f"There are {MOST_CHANNELS} channels already; remove one first.")
    secret = new_secret() if asked.kind is ChannelKind.WEBHOOK else ""
    row = t.Channel(person_id=owner, kind=asked.kind, name=asked.name or asked.kind, added_at=context.clock.now())
    await lead_channel(db, row, sealing, asked.address, [secret], asked.keys)
    db.add(row)
    await db.flush()
    await _with_rule(db, row)
    return row, secret


async def lead_channel(
    db: AsyncSession, row: t.Channel, sealing: Secrets, address: str, secrets: list[str], keys: w.PushKeys | None = None
) -> None:
    """Have a channel lead somewhere. Raises ApiProblem (409, 422)."""
    found = await lead(ChannelKind(row.kind), Asked(address, await load_settings(db), secrets, keys))
    if row.kind == ChannelKind.CHAT:
        await _check_nobody_elses(db, row.person_id, found.shown)
    row.shown, row.access = found.shown, sealing.seal(found.access) if found.access else b""


async def _check_nobody_elses(db: AsyncSession, owner: int | None, address: str) -> None:
    """Refuse (409) a chat address by which somebody else is known: what comes from it is done with their rights."""
    query = select(t.Channel.id).where(
        t.Channel.kind == ChannelKind.CHAT,
        t.Channel.shown == address,
        t.Channel.person_id.is_distinct_from(owner),
    )
    if (await db.execute(query.limit(1))).first() is not None:
        raise ApiProblem(409, f"{address} is somebody else's already, or the shop's.")


async def _same_browser(db: AsyncSession, owner: int | None, address: str, sealing: Secrets) -> t.Channel | None:
    """The channel of a browser that subscribes once more."""
    query = select(t.Channel).where(t.Channel.person_id == owner, t.Channel.kind == ChannelKind.PUSH)
    for row in (await db.execute(query)).scalars():
        with suppress(SecretLost):
            if PushAccess.model_validate_json(sealing.open(row.access)).endpoint == address:
                return row
    return None


async def _with_rule(db: AsyncSession, row: t.Channel) -> None:
    """A new channel is told over at once: by a rule of its own, beside what was heard before."""
    rules = (await db.execute(select(t.NoticeRule).where(t.NoticeRule.person_id == row.person_id))).first()
    if row.person_id is not None and rules is None:
        db.add(t.NoticeRule(person_id=row.person_id, rule=to_jsonable_python(DEFAULT_RULE)))
    least = Gravity.NOTE if row.person_id is None else Gravity.ACT
    rule = NoticeRule(name=f"Over {row.name}"[:60], least=least, channels=(row.id,))
    db.add(t.NoticeRule(person_id=row.person_id, rule=to_jsonable_python(rule)))


async def name_channel(db: AsyncSession, number: int, name: str) -> None:
    (await db.get_one(t.Channel, number)).name = name
