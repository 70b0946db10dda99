"""What every part of the service needs, and how a route gets the parts that it needs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, TypeVar

from fastapi import Depends
from sqlalchemy.ext.asyncio import AsyncSession
from starlette.requests import HTTPConnection

from chronarch.core.clock import Clock
from chronarch.records.database import Sessions
from chronarch.service.changes import Changes
from chronarch.service.config import Config
from chronarch.wire.system.shop import ShopFacts

P = TypeVar("P")


@dataclass
class ShopName:
    """What the shop is called, as it is now."""

    facts: ShopFacts

    @property
    def name(self) -> str:
        return self.facts.name


@dataclass(frozen=True)
class ServiceContext:
    """What all parts need: the configuration, the clocks, the database, what tells of changes, and what the shop is
    called."""

    config: Config
    clock: Clock
    sessions: Sessions
    changes: Changes
    shop: ShopName

    def db(self) -> AsyncSession:
        """A session of the database, for one transaction or one reading."""
        return self.sessions()


def part_of(connection: HTTPConnection, kind: type[P]) -> P:
    """The service's one object of a type."""
    found: P = connection.app.state.parts[kind]
    return found


def part(kind: type[Any]) -> Any:
    """A dependency: gives a route the service's one object of a type."""

    async def find(connection: HTTPConnection) -> Any:
        return part_of(connection, kind)

    return Depends(find)


Context = Annotated[ServiceContext, part(ServiceContext)]
