"""The first steps of a new shop. What is done is read from the records, so it does not matter where it was done."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping

from pydantic import Field
from sqlalchemy import Select, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.planning.settings import load_settings
from chronarch.service.system.backup.settings import load_backup
from chronarch.service.system.shop_facts import SETTING as SHOP
from chronarch.wire.common import Wire
from chronarch.wire.notices.channels import ChannelKind
from chronarch.wire.planning.settings import ALL_WEEK
from chronarch.wire.system.first_steps import FirstStep, FirstSteps, FirstStepsChange, Step

SETTING = "first-steps"
NAMED = 5


class Kept(Wire):
    """What people said of them."""

    skipped: list[Step] = Field(default_factory=list)
    over: bool = False


async def first_steps(context: ServiceContext) -> FirstSteps:
    async with context.sessions() as db:
        kept, steps = await _kept(db), []
        for step, look in LOOKS.items():
            told = await look(db, context)
            standing = "done" if told else "skipped" if step in kept.skipped else "open"
            steps.append(FirstStep.model_validate({"step": step, "standing": standing, "told": told}))
    return FirstSteps(steps=steps, over=kept.over)


async def change_first_steps(db: AsyncSession, change: FirstStepsChange) -> None:
    """Within the transaction."""
    kept = await _kept(db)
    skipped = [step for step in Step if step in (*kept.skipped, change.skip) and step is not change.take_up]
    over = kept.over if change.over is None else change.over
    value = Kept(skipped=skipped, over=over).model_dump(mode="json")
    await db.merge(t.Setting(name=SETTING, value=value))


async def _kept(db: AsyncSession) -> Kept:
    row = await db.get(t.Setting, SETTING, populate_existing=True)
    return Kept.model_validate(row.value) if row else Kept()


async def _shop(db: AsyncSession, context: ServiceContext) -> str:
    return context.shop.name if await db.get(t.Setting, SHOP) is not None else ""


async def _hours(db: AsyncSession, context: ServiceContext) -> str:
    sites = [one.site or "the shop" for one in (await load_settings(db)).hours.values() if one.week != ALL_WEEK]
    return ", ".join(sorted(sites)[:NAMED]) + ("…" if len(sites) > NAMED else "")


async def _machines(db: AsyncSession, context: ServiceContext) -> str:
    return _many(await _count(db, select(t.Machine.id)), "machine", "machines")


async def _spools(db: AsyncSession, context: ServiceContext) -> str:
    return _many(await _count(db, select(t.Spool.id).where(~t.Spool.finished)), "spool", "spools")


async def _message(db: AsyncSession, context: ServiceContext) -> str:
    """The newest that has arrived anywhere but in the console."""
    arrived = (
        select(t.Channel.shown).join(t.DeliveryTry, t.DeliveryTry.channel_id == t.Channel.id)
        .where(t.DeliveryTry.good, t.Channel.kind != ChannelKind.PAGE).order_by(t.DeliveryTry.id.desc()).limit(1)
    )  # fmt: skip
    where = (await db.execute(arrived)).scalar()
    return f"arrived at {where}" if where else ""


async def _backups(db: AsyncSession, context: ServiceContext) -> str:
    return (await load_backup(db)).address


LOOKS: Mapping[Step, Callable[[AsyncSession, ServiceContext], Awaitable[str]]] = {
    Step.SHOP: _shop, Step.HOURS: _hours, Step.MACHINES: _machines, Step.SPOOLS: _spools, Step.MESSAGE: _message,
    Step.BACKUPS: _backups,
}  # fmt: skip
"""What there is of each; empty while it is not done."""


async def _count(db: AsyncSession, query: Select[int]) -> int:
    return (await db.execute(select(func.count()).select_from(query.subquery()))).scalar_one()


def _many(number: int, one: str, several: str) -> str:
    return f"{number:,} {one if number == 1 else several}" if number else ""
