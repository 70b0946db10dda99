"""Connections that stay open for long: live streams and tenders' sockets. When their key is revoked or their session
ends, in this process or another, they are closed within a second."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING

from sqlalchemy import select
from sqlalchemy.exc import SQLAlchemyError

from chronarch.records import tables as t

if TYPE_CHECKING:
    from chronarch.service.access import Who
    from chronarch.service.shop import Shop

LOOK_EVERY_S = 0.4
log = logging.getLogger("chronarch.doors")


@dataclass(eq=False)
class Door:
    """One open connection: whose it is, and how to close it."""

    who: Who
    close: Callable[[], None]


class OpenDoors:
    """All open connections."""

    def __init__(self) -> None:
        self._doors: set[Door] = set()

    @contextmanager
    def held(self, who: Who, close: Callable[[], None]) -> Iterator[None]:
        """Watch a connection while it is open."""
        door = Door(who, close)
        self._doors.add(door)
        try:
            yield
        finally:
            self._doors.discard(door)

    async def watch_forever(self, shop: Shop) -> None:
        """Close connections whose key was revoked or whose session has ended."""
        while True:
            await asyncio.sleep(LOOK_EVERY_S)
            if not self._doors:
                continue
            try:
                for door in await self._no_more(shop):
                    self._doors.discard(door)
                    door.close()
            except (SQLAlchemyError, OSError) as error:
                log.debug("who is still let in cannot be asked: %s", str(error).splitlines()[0])

    async def _no_more(self, shop: Shop) -> list[Door]:
        doors = list(self._doors)
        keys, sessions = {d.who.key for d in doors} - {0}, {d.who.session for d in doors} - {""}
        async with shop.sessions() as db:
            good = set((await db.execute(select(t.Key.id).where(t.Key.id.in_(keys), ~t.Key.revoked))).scalars())
            lasting = t.Session.expires_at > shop.clock.real_now()
            query = select(t.Session.token_hash).where(t.Session.token_hash.in_(sessions), lasting)
            valid = set((await db.execute(query)).scalars())
        return [
            d for d in doors if (d.who.key and d.who.key not in good) or (d.who.session and d.who.session not in valid)
        ]
