"""The first person of a shop: whoever has the code that the service's computer shows makes themselves the first, who
manages it. Once there is anybody, the code opens nothing any more."""

from __future__ import annotations

import asyncio
import logging
import secrets
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.errors import BadName
from chronarch.private_file import write_private
from chronarch.records import tables as t
from chronarch.service.access.registering import MANAGES, register
from chronarch.service.access.sign_in import SignInGuard
from chronarch.service.context import ServiceContext, part
from chronarch.service.problems import ApiProblem
from chronarch.wire.access import FirstPerson

LETTERS, GROUPS = "23456789ABCDEFGHJKMNPQRSTUVWXYZ", 3
"""What reads alike is left out; groups of four: 59 bits."""
FILE = "first-code"
log = logging.getLogger("chronarch.access")


def code_file(blobs: Path) -> Path:
    """Where the code lies while there is nobody."""
    return blobs / FILE


@dataclass
class FirstRun:
    """Knows whether there is anybody yet."""

    context: ServiceContext
    guard: SignInGuard
    _entering: asyncio.Lock = field(default_factory=asyncio.Lock)

    async def begin(self) -> None:
        """At the start of the service: have a code where there is nobody, and none where there is."""
        path = code_file(self.context.config.blobs)
        if await self.is_open():
            if not path.exists():
                path.parent.mkdir(parents=True, exist_ok=True)
                groups = ("".join(secrets.choice(LETTERS) for _ in range(4)) for _ in range(GROUPS))
                write_private(path, "-".join(groups).encode() + b"\n")
            log.info("nobody can sign in yet; the code for the first is in %s, or: chronarch service first-code", path)
        else:
            path.unlink(missing_ok=True)

    async def is_open(self) -> bool:
        async with self.context.sessions() as db:
            return not await _anybody(db)

    async def enter(self, asked: FirstPerson, address: str) -> None:
        """Let the first person in. Raises ApiProblem (401, 409, 422, 429)."""
        self.guard.begin("the first", address)
        async with self._entering, self.context.sessions() as db:
            if await _anybody(db):
                raise ApiProblem(409, "There is somebody already who manages this shop; sign in, or ask them.")
            path = code_file(self.context.config.blobs)
            code = path.read_text().strip() if path.exists() else ""
            given = "".join(c for c in asked.code.upper() if c.isalnum())
            if not code or not secrets.compare_digest(given.encode(), code.replace("-", "").encode()):
                raise ApiProblem(
                    401, "That is not the code. `chronarch service first-code` shows it, on the service's computer."
                )
            try:
                await register(db, asked.login, asked.name or asked.login, asked.password, MANAGES)
            except BadName as error:
                raise ApiProblem(422, str(error)) from None
            await db.commit()
            path.unlink(missing_ok=True)
        self.guard.succeeded("the first", address)


async def _anybody(db: AsyncSession) -> bool:
    return (await db.execute(select(t.Person.id).limit(1))).first() is not None


TheFirstRun = Annotated[FirstRun, part(FirstRun)]
