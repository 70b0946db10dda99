"""Connections that stay open for long: live streams and sockets of tenders.

They are closed within a second when their key is revoked or their session is closed, in this process or another, and
within some seconds when their session expires.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Annotated

from sqlalchemy import select

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part
from chronarch.service.principals import Principal

LOOK_EVERY_S = 5.0
log = logging.getLogger("chronarch.connections")


@dataclass(eq=False)
class OpenConnection:
    """One open connection: whose it is, and how to close it."""

    who: Principal
    close: Callable[[], None]


class OpenConnections:
    """All open connections."""

    def __init__(self, context: ServiceContext) -> None:
        self._context = context
        self.wanted = context.changes.watch("access")
        self._open: set[OpenConnection] = set()

    @contextmanager
    def held(self, who: Principal, close: Callable[[], None]) -> Iterator[None]:
        """Watch a connection while it is open."""
        connection = OpenConnection(who, close)
        self._open.add(connection)
        try:
            yield
        finally:
            self._open.discard(connection)

    async def close_lapsed(self) -> None:
        """Close connections whose key was revoked or whose session has ended."""
        for connection in await self._no_more() if self._open else ():
            self._open.discard(connection)
            connection.close()

    async def _no_more(self) -> list[OpenConnection]:
        open_now = list(self._open)
        keys, sessions = {d.who.key for d in open_now} - {0}, {d.who.session for d in open_now} - {""}
        async with self._context.sessions() as db:
            good = set((await db.execute(select(t.Key.id).where(t.Key.id.in_(keys), ~t.Key.revoked))).scalars())
            lasting = t.Session.expires_at > self._context.clock.real_now()
            query = select(t.Session.token_hash).where(t.Session.token_hash.in_(sessions), lasting)
            valid = set((await db.execute(query)).scalars())
        return [
            d
            for d in open_now
            if (d.who.key and d.who.key not in good) or (d.who.session and d.who.session not in valid)
        ]


TheOpenConnections = Annotated[OpenConnections, part(OpenConnections)]
