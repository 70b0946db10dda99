"""Reading the audit, sealing what is new in it, giving up what is old, and taking out whoever has left."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, Select, bindparam, delete, func, or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.audit import SealedEntry, head_of, seal_of
from chronarch.records.access.tables import Person
from chronarch.records.audit import AuditChain, AuditEntry

_ENTRIES: Any = AuditEntry.__table__


@dataclass(frozen=True)
class AuditFilter:
    """Which entries are asked for; what is empty asks for nothing. `text` is looked for in what was done and to what,
    with all that was changed."""

    who: str = ""
    text: str = ""
    since: datetime | None = None
    until: datetime | None = None
    refused: bool = False

    def of(self, query: Select[Any]) -> Select[Any]:
        found: list[ColumnElement[bool]] = []
        if self.who:
            found.append(AuditEntry.who == self.who)
        if self.text:
            found.append(or_(*(c.contains(self.text, autoescape=True) for c in (AuditEntry.act, AuditEntry.told))))
        if self.since:
            found.append(AuditEntry.at >= self.since)
        if self.until:
            found.append(AuditEntry.at < self.until)
        if self.refused:
            found.append(AuditEntry.status > 0)
        return query.where(*found)


def sealed_entry(row: AuditEntry) -> SealedEntry:
    return SealedEntry(
        row.number or 0, row.at, row.who, row.act, row.status, row.origin, row.told, row.origin_digest,
        row.told_digest, row.seal,
    )  # fmt: skip


async def chain(db: AsyncSession, *, locked: bool = False) -> AuditChain:
    return await db.get_one(AuditChain, 1, with_for_update=locked, populate_existing=True)


def close(key: bytes, chain: AuditChain) -> None:
    """Seal where a chain begins and ends."""
    chain.head = head_of(key, chain.first, chain.before_first, chain.last, chain.last_seal)


def closed(key: bytes, chain: AuditChain) -> bool:
    """Whether nobody has changed where a chain begins and ends."""
    if not chain.head:
        return (chain.first, chain.last) == (1, 0)
    return chain.head == head_of(key, chain.first, chain.before_first, chain.last, chain.last_seal)


async def seal_new(db: AsyncSession, key: bytes, chain: AuditChain, most: int) -> int:
    """Seal entries in the order in which they were written, `most` at most: how many. Not committed; the chain must be
    locked."""
    query = select(AuditEntry).where(AuditEntry.number.is_(None)).order_by(AuditEntry.id).limit(most)
    rows = (await db.execute(query)).scalars().all()
    sealed = []
    for row in rows:
        entry = SealedEntry(
            chain.last + 1, row.at, row.who, row.act, row.status, row.origin, row.told, row.origin_digest,
            row.told_digest,
        )  # fmt: skip
        chain.last, chain.last_seal = entry.number, seal_of(key, chain.last_seal, entry)
        sealed.append({"this": row.id, "number": entry.number, "seal": chain.last_seal})
    if sealed:
        close(key, chain)
        change = update(_ENTRIES).where(_ENTRIES.c.id == bindparam("this"))
        await (await db.connection()).execute(change.values(number=bindparam("number"), seal=bindparam("seal")), sealed)
    return len(sealed)


async def waiting(db: AsyncSession) -> int:
    """Entries that are not sealed."""
    query = select(func.count()).select_from(_ENTRIES).where(_ENTRIES.c.number.is_(None))
    return (await db.execute(query)).scalar_one()


async def newest(db: AsyncSession) -> int:
    """The highest number that an entry has."""
    return (await db.execute(select(func.max(AuditEntry.number)))).scalar() or 0


async def entries_from(db: AsyncSession, number: int, most: int) -> Sequence[AuditEntry]:
    """Sealed entries from a number on, in their order."""
    query = select(AuditEntry).where(AuditEntry.number >= number).order_by(AuditEntry.number).limit(most)
    return (await db.execute(query)).scalars().all()


async def give_up(db: AsyncSession, key: bytes, before: datetime, most: int) -> int:
    """Remove sealed entries from before a moment, the oldest first, `most` at most: how many. Not committed."""
    here = await chain(db, locked=True)
    if not closed(key, here):  # what is wrong stays to be seen
        return 0
    query = select(AuditEntry.number, AuditEntry.seal, AuditEntry.at).where(AuditEntry.number >= here.first)
    going = 0
    for number, seal, at in (await db.execute(query.order_by(AuditEntry.number).limit(most))).all():
        if at >= before:
            break
        here.first, here.before_first, going = (number or 0) + 1, seal, going + 1
    if going:
        close(key, here)
        await db.execute(delete(_ENTRIES).where(_ENTRIES.c.number < here.first))
    return going


async def take_out(db: AsyncSession, person: Person) -> None:
    """Take out of the audit what tells of a person: from where they did something, and all that has their name, login
    or mail address in it. Not committed."""
    mine = AuditEntry.who == f"person {person.id}"
    await db.execute(update(_ENTRIES).where(mine).values(origin=None))
    for word in {person.name, person.login, person.mail} - {""}:
        written = json.dumps(word, ensure_ascii=False)[1:-1]
        pattern = f"(?<!\\w){re.escape(written)}(?!\\w)"
        named = AuditEntry.told.contains(written, autoescape=True) & AuditEntry.told.regexp_match(pattern)
        await db.execute(update(_ENTRIES).where(named).values(told=None))
