"""The ways in which people and the shop are reached."""

from __future__ import annotations

from dataclasses import replace

from fastapi import APIRouter, Response
from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.records.notices import telling
from chronarch.records.paging import number as by_number
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Paged
from chronarch.service.notices import setting_up
from chronarch.service.notices.channels.push import ThePushSender
from chronarch.service.notices.channels.webhook import WebhookAccess, new_secret
from chronarch.service.notices.deliverer import TheDeliverer
from chronarch.service.notices.owners import check_owner, logins, mine, owner_of
from chronarch.service.permissions import Caller
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import SecretLost, Secrets, TheSecrets
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.notices import channels as w
from chronarch.wire.notices.channels import ChannelKind
from chronarch.wire.notices.rules import notice_rule

router = APIRouter(tags=["notices"], route_class=RetryingRoute)
SECRETS_KEPT = 2


@router.get("/channels")
async def channels(who: Caller, context: Context) -> list[w.Channel]:
    """The channels of who asks and of the shop; all of them for a maintainer's key."""
    query = select(t.Channel).where(mine(who, t.Channel.person_id)).order_by(t.Channel.id)
    async with context.sessions() as db:
        return await _views(context, db, list((await db.execute(query)).scalars()), who)


@router.post("/channels", status_code=201)
async def add_channel(asked: w.NewChannel, who: Caller, context: Context, sealing: TheSecrets) -> w.CreatedChannel:
    """Add a way to reach somebody, with a rule that tells over it."""
    async with context.sessions() as db:
        owner = await owner_of(db, who, asked.person)
        row, secret = await setting_up.add_channel(context, db, sealing, owner, asked)
        await db.commit()
        (view,) = await _views(context, db, [row], who)
        return w.CreatedChannel(**view.model_dump(), secret=secret)


@router.get("/push-key")
async def push_key(pushing: ThePushSender) -> w.PushKey:
    """Our own public key, which a browser wants to subscribe with."""
    return w.PushKey(key=pushing.public_key)


@router.patch("/channels/{number:record}")
async def change_channel(
    number: Number, change: w.ChannelChange, who: Caller, context: Context, sealing: TheSecrets
) -> w.Channel:
    """Change a channel. What was given up or waits stays; it is tried again at once."""
    async with context.sessions() as db:
        row = await _row(db, number, who)
        if change.name is not None:
            row.name = change.name or row.kind
        if change.on is not None:
            row.on = change.on
        if change.address is not None:
            if row.kind == ChannelKind.PAGE:
                raise ApiProblem(409, "The page has no address to change.")
            await setting_up.lead_channel(db, row, sealing, change.address, _secrets_of(row, sealing))
        row.next_at = None
        await db.commit()
        return (await _views(context, db, [row], who))[0]


@router.delete("/channels/{number:record}")
async def remove_channel(number: Number, who: Caller, context: Context) -> RequestDone:
    """Remove a channel with its log; rules that name it name it no more."""
    async with context.sessions() as db:
        row = await _row(db, number, who)
        if row.kind == ChannelKind.PAGE:
            raise ApiProblem(409, "The page is always there; turn it off instead.")
        rules = (await db.execute(select(t.NoticeRule).where(t.NoticeRule.person_id == row.person_id))).scalars()
        for rule in rules:
            await _without(db, rule, number)
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"Channel {number} is removed.")


async def _without(db: AsyncSession, row: t.NoticeRule, channel: int) -> None:
    rule = notice_rule.validate_python(row.rule)
    steps = tuple(step for step in rule.next_steps if step.channel != channel)
    if channel not in rule.channels and len(steps) == len(rule.next_steps):
        return
    kept = tuple(n for n in rule.channels if n != channel)
    if rule.channels and not kept:
        await db.delete(row)  # else it would tell over the page what was meant for this channel
    else:
        row.rule = to_jsonable_python(replace(rule, channels=kept, next_steps=steps))


@router.post("/channels/{number:record}/test")
async def test_channel(number: Number, who: Caller, context: Context, deliverer: TheDeliverer) -> w.ChannelTried:
    """Send a test message over a channel now."""
    async with context.sessions() as db:
        row = await _row(db, number, who)
    if row.kind == ChannelKind.PAGE:
        raise ApiProblem(409, "The page needs no test: you are looking at it.")
    return await deliverer.test(row)


@router.get("/channels/{number:record}/log")
async def channel_log(
    number: Number, who: Caller, context: Context, page: Paged, response: Response
) -> list[w.DeliveryTry]:
    """Each try to send over a channel and what was answered, newest first."""
    query = select(t.DeliveryTry).where(t.DeliveryTry.channel_id == number)
    async with context.sessions() as db:
        await _row(db, number, who)
        rows = (await db.execute(page.of(query, by_number(t.DeliveryTry.id, descending=True)))).scalars().all()
        found = [fill(w.DeliveryTry, row) for row in page.cut(rows, lambda row: (row.id,))]
    if page.next:
        response.headers["Link"] = page.next
    return found


@router.post("/channels/{number:record}/again")
async def send_again(number: Number, who: Caller, context: Context) -> w.DeadLetters:
    """Send what was given up once more."""
    async with context.sessions() as db:
        await _row(db, number, who)
        again = await telling.wake_dead(db, number)
        await db.commit()
    return w.DeadLetters(again=again)


@router.post("/channels/{number:record}/secret")
async def new_channel_secret(number: Number, who: Caller, context: Context, sealing: TheSecrets) -> w.CreatedChannel:
    """Give a webhook a new secret. Events are signed with the one before too, until the next new one."""
    async with context.sessions() as db:
        row = await _row(db, number, who)
        if row.kind != ChannelKind.WEBHOOK:
            raise ApiProblem(409, "Only a webhook has a secret.")
        access = WebhookAccess.model_validate_json(_opened(row, sealing))
        secret = new_secret()
        access.secrets = [secret, *access.secrets][:SECRETS_KEPT]
        row.access = sealing.seal(access.model_dump_json())
        await db.commit()
        (view,) = await _views(context, db, [row], who)
        return w.CreatedChannel(**view.model_dump(), secret=secret)


def _secrets_of(row: t.Channel, sealing: Secrets) -> list[str]:
    """What a webhook's events were signed with; a new address gets the same, because its owner has it."""
    return WebhookAccess.model_validate_json(_opened(row, sealing)).secrets if row.kind == ChannelKind.WEBHOOK else []


def _opened(row: t.Channel, sealing: Secrets) -> str:
    try:
        return sealing.open(row.access)
    except SecretLost as lost:
        raise ApiProblem(409, f"What this channel was given is lost: {lost}. Remove it and add it anew.") from None


async def _row(db: AsyncSession, number: int, who: Principal) -> t.Channel:
    row = await db.get(t.Channel, number)
    if row is None:
        raise ApiProblem(404, f"There is no channel {number}; `chronarch channels list` shows all.")
    check_owner(who, row.person_id)
    return row


async def _views(context: ServiceContext, db: AsyncSession, rows: list[t.Channel], who: Principal) -> list[w.Channel]:
    people, counts = await logins(db), await telling.counts(db, [row.id for row in rows], context.clock.now())
    return [
        fill(
            w.Channel, row, person=people.get(row.person_id, ""), address=row.shown,
            mine=bool(who.person) and row.person_id == who.person,
            waiting=counts.get(row.id, {}).get("waiting", 0) + counts.get(row.id, {}).get("sending", 0),
            dead=counts.get(row.id, {}).get("dead", 0),
        )
        for row in rows
    ]  # fmt: skip
