"""What the shop is called, and in which language the console writes dates: as the records have it, or as the
configuration says until somebody has said otherwise."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.wire.system.shop import ShopChange, ShopFacts

SETTING = "shop"


async def load_shop(db: AsyncSession, context: ServiceContext) -> None:
    """Have the context know it."""
    row = await db.get(t.Setting, SETTING, populate_existing=True)
    context.shop.facts = ShopFacts.model_validate(row.value) if row else ShopFacts(name=context.config.shop)


async def change_shop(db: AsyncSession, context: ServiceContext, change: ShopChange) -> None:
    """Change it, within the transaction; `load_shop` after its end has the context know it."""
    kept = context.shop.facts.model_copy(update=change.model_dump(exclude_none=True))
    await db.merge(t.Setting(name=SETTING, value=kept.model_dump(mode="json")))
