"""What the shop has decided about cameras."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.wire.watching.settings import Watching

NAME = "watching"


async def load_watching(db: AsyncSession) -> Watching:
    row = await db.get(t.Setting, NAME)
    return Watching.model_validate(row.value) if row else Watching()
