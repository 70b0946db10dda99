"""What one running service is made of, handed to every route."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Annotated

from fastapi import Depends
from sqlalchemy.ext.asyncio import AsyncSession
from starlette.requests import HTTPConnection

from chronarch.core.clock import Clock
from chronarch.records import library
from chronarch.records.database import Sessions
from chronarch.service.blobs import Blobs
from chronarch.service.fleet import Fleet
from chronarch.service.heat import HeatLog
from chronarch.service.intake import Intake
from chronarch.service.live import Hub
from chronarch.service.open_doors import OpenDoors
from chronarch.service.planning import Planner
from chronarch.service.reading import Readers
from chronarch.service.settings import Settings
from chronarch.wire.library import Pace

if TYPE_CHECKING:
    from chronarch.service.access import Doorkeeper


PACES_FOR = timedelta(seconds=10)


@dataclass
class Shop:
    """The service's parts."""

    settings: Settings
    clock: Clock
    sessions: Sessions
    blobs: Blobs
    readers: Readers
    hub: Hub
    fleet: Fleet
    door: Doorkeeper
    heat: HeatLog
    work: asyncio.Event = field(default_factory=asyncio.Event)
    """Set when there may be something to dispatch."""
    read_missing: asyncio.Event = field(default_factory=asyncio.Event)
    """Set when a file has not been read for a model that could make it."""
    planner: Planner = field(default_factory=Planner)
    doors: OpenDoors = field(default_factory=OpenDoors)
    stale_models: set[str] = field(default_factory=set)
    """Models whose figures have changed since their files were read."""
    _paces: dict[str, Pace] = field(default_factory=dict)
    _paces_at: datetime | None = None

    def __post_init__(self) -> None:
        self.intake = Intake(self)

    async def paces(self, db: AsyncSession) -> dict[str, Pace]:
        """What builds on each model are known to take; looked up anew now and then."""
        now = self.clock.real_now()
        if self._paces_at is None or now - self._paces_at > PACES_FOR:
            self._paces, self._paces_at = await library.learned_paces(db), now
        return self._paces

    async def pace_of(self, db: AsyncSession, model: str) -> float:
        """A model's learned pace; 1 while there is none."""
        found = (await self.paces(db)).get(model)
        return found.pace if found else 1.0


def shop_of(connection: HTTPConnection) -> Shop:
    shop: Shop = connection.app.state.shop
    return shop


TheShop = Annotated[Shop, Depends(shop_of)]
