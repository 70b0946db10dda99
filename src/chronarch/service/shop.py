"""What one running service is made of, handed to every route."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Annotated

from fastapi import Depends
from starlette.requests import HTTPConnection

from chronarch.core.clock import Clock
from chronarch.records.database import Sessions
from chronarch.service.blobs import Blobs
from chronarch.service.fleet import Fleet
from chronarch.service.heat import HeatLog
from chronarch.service.live import Hub
from chronarch.service.reading import Readers
from chronarch.service.settings import Settings

if TYPE_CHECKING:
    from chronarch.service.access import Doorkeeper


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


def shop_of(connection: HTTPConnection) -> Shop:
    shop: Shop = connection.app.state.shop
    return shop


TheShop = Annotated[Shop, Depends(shop_of)]
