"""How long builds on each model really take, read anew now and then."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import ModelPace, learned_paces
from chronarch.records.ledger.history import COMPLETED, ended_builds
from chronarch.service.context import ServiceContext, part

GOOD_FOR = timedelta(seconds=10)
LEARN_FROM = 600


class LearnedPaces:
    """By model: real seconds a planned second takes."""

    def __init__(self, context: ServiceContext) -> None:
        self._context = context
        self._paces: dict[str, ModelPace] = {}
        self._read_at: datetime | None = None

    async def all(self, db: AsyncSession) -> dict[str, ModelPace]:
        """The learned paces, at most `GOOD_FOR` old."""
        now = self._context.clock.real_now()
        if self._read_at is None or now - self._read_at > GOOD_FOR:
            builds = await ended_builds(db, COMPLETED, LEARN_FROM)
            self._paces, self._read_at = learned_paces(builds), now
        return self._paces

    async def of(self, db: AsyncSession, model: str) -> float:
        """A model's learned pace; 1 while there is none."""
        found = (await self.all(db)).get(model)
        return found.pace if found else 1.0


TheLearnedPaces = Annotated[LearnedPaces, part(LearnedPaces)]
