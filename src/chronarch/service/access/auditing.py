"""The audit as people have it: read, checked, kept as long as set. Its entries are sealed here, one after another."""

from __future__ import annotations

import asyncio
import json
import logging
import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Annotated

from fastapi.routing import APIRoute
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.audit import ChainCheck
from chronarch.records import tables as t
from chronarch.records.access import audit_trail
from chronarch.records.audit import Act
from chronarch.service.access.devices import device_words
from chronarch.service.audit_log import AuditLog
from chronarch.service.context import ServiceContext, part
from chronarch.service.secrets import Secrets
from chronarch.wire import access as w

SETTING = "audit"
LOOK_EVERY_S, GIVE_UP_EVERY_S = 1.0, 3600.0
AT_ONCE = 500
OWN = "the audit"
BROKEN = "the chain did not end as it was left; it goes on from there"
GAVE_UP = "entries are given up that need not be kept any longer"
PROMPT = timedelta(minutes=1)
"""How long an entry may wait for its seal."""
LEFT, NOBODY = "somebody who left", "not signed in"
log = logging.getLogger("chronarch.service")


DEEDS = {
    "dispatch": "A build is handed to a machine", "watch": "A build is looked at", "clear beds": "Beds are looked at",
    "part release": "A part is let go", "power": "Plugs are turned", "hot folders": "Files are taken in",
    "backups": "Backups are taken and tried", "storage": "What takes the disk is looked at",
    "upkeep": "Upkeep falls due",
}  # fmt: skip
"""What parts of the service do by themselves, by the name of the worker."""


@dataclass
class Auditing:
    """Keeps the chain. It remembers how it left it, so that an older end of it that is put back is noticed."""

    context: ServiceContext
    log: AuditLog
    secrets: Secrets
    texts: dict[str, str] = field(default_factory=dict)
    """What each act is, in words."""
    _left: tuple[int, str] | None = None
    """The number and seal of the last entry, as this service has sealed it."""
    _gave_up_s: float = field(default=-GIVE_UP_EVERY_S)
    _key: bytes = b""

    @property
    def key(self) -> bytes:
        self._key = self._key or self.secrets.derived("audit")
        return self._key

    async def look(self) -> None:
        """Seal what is new; now and then give up what is old."""
        while await self._seal() == AT_ONCE:
            pass
        if self.context.clock.monotonic_s() - self._gave_up_s >= GIVE_UP_EVERY_S:
            self._gave_up_s = self.context.clock.monotonic_s()
            await self.give_up()

    async def _seal(self) -> int:
        async with self.context.sessions() as db:
            if not await audit_trail.waiting(db):
                return 0
            chain = await audit_trail.chain(db, locked=True)
            found = (chain.last, chain.last_seal)
            if not audit_trail.closed(self.key, chain) or (self._left is not None and found[0] < self._left[0]):
                log.error("the audit's chain did not end as it was left: %s", found)
                audit_trail.close(self.key, chain)
                self._left = None
                await db.commit()
                await self.log.write(Act(self.context.clock.real_now(), OWN, BROKEN))
                return AT_ONCE
            sealed = await audit_trail.seal_new(db, self.key, chain, AT_ONCE)
            await db.commit()
            self._left = (chain.last, chain.last_seal)
        return sealed

    async def give_up(self) -> int:
        """Remove what is older than it is to be kept: how many entries."""
        async with self.context.sessions() as db:
            days = (await load_settings(db)).kept_days
        if not days:
            return 0
        before, all_gone = self.context.clock.real_now() - timedelta(days=days), 0
        while True:
            async with self.context.sessions() as db:
                gone = await audit_trail.give_up(db, self.key, before, AT_ONCE)
                await db.commit()
            all_gone += gone
            if gone < AT_ONCE:
                break
        if all_gone:
            await self.log.write(Act(self.context.clock.real_now(), OWN, GAVE_UP, f"{all_gone} entries"))
        return all_gone

    async def verify(self, asked: w.AuditAsked) -> w.AuditProof:
        """Look through the whole chain."""
        await self._seal()
        async with self.context.sessions() as db:
            newest = await audit_trail.newest(db)
            chain = await audit_trail.chain(db)
        check = ChainCheck(self.key, chain.first, chain.before_first)
        if not audit_trail.closed(self.key, chain):
            check.fault("Where the audit begins and ends was changed, or it was sealed with another key.")
        if newest > chain.last:
            check.fault("Entries stand after the last one that was sealed.")
        number, seal = 0, ""
        while True:
            async with self.context.sessions() as db:
                rows = await audit_trail.entries_from(db, number + 1, AT_ONCE)
            rows = [row for row in rows if (row.number or 0) <= chain.last]
            await asyncio.to_thread(check.take, map(audit_trail.sealed_entry, rows))
            for row in rows:
                if row.who == OWN and row.act == BROKEN:
                    check.fault(f"Before entry {row.number} the chain did not end as it was left ({row.at:%d %B %Y}).")
                if row.number == asked.number:
                    seal = row.seal
            if not rows:
                break
            number = rows[-1].number or 0
        check.end(chain.last, chain.last_seal)
        if asked.number is not None and seal != asked.seal:
            check.fault(
                f"Entry {asked.number} has another seal than you noted down." if seal else
                f"Entry {asked.number}, which you noted down, is "
                + ("given up; that is as set." if asked.number < chain.first else "not there.")
            )  # fmt: skip
        return w.AuditProof(
            first=chain.first, last=chain.last, seal=chain.last_seal, entries=check.entries,
            taken_out=check.taken_out, waiting=await self._waiting(check), found=check.found, faults=check.faults,
        )  # fmt: skip

    async def _waiting(self, check: ChainCheck) -> int:
        late = t.AuditEntry.number.is_(None), t.AuditEntry.at < self.context.clock.real_now() - PROMPT
        async with self.context.sessions() as db:
            old = (await db.execute(select(t.AuditEntry.id).where(*late).limit(1))).scalar_one_or_none()
            if old is not None:
                check.fault("Entries wait to be sealed for longer than a minute; `chronarch health` says why.")
            return await audit_trail.waiting(db)


TheAuditing = Annotated[Auditing, part(Auditing)]


async def load_settings(db: AsyncSession) -> w.AuditSettings:
    row = await db.get(t.Setting, SETTING)
    return w.AuditSettings.model_validate(row.value) if row else w.AuditSettings()


async def change_settings(db: AsyncSession, settings: w.AuditSettings) -> None:
    row = await db.get(t.Setting, SETTING)
    if row is None:
        db.add(row := t.Setting(name=SETTING, value={}))
    row.value = settings.model_dump(mode="json")


def texts_of(routes: Iterable[APIRoute]) -> dict[str, str]:
    """What each act is: of a route the first sentence that describes it."""
    return DEEDS | {
        f"{method} {route.path_format}": _first_sentence(route.description) or route.name.replace("_", " ").capitalize()
        for route in routes for method in route.methods or ()
    }  # fmt: skip


def _first_sentence(text: str) -> str:
    line = " ".join(text.split("\n\n")[0].split())
    return re.split(r"[.;:](?: |$)", line)[0].replace("`", "")


# As people read it ----------------------------------------------------------------------------------------------------


async def views(db: AsyncSession, rows: Sequence[t.AuditEntry], texts: Mapping[str, str]) -> list[w.AuditEntry]:
    """Entries as people read them; `texts` says in words what each act is."""
    told = [json.loads(row.told) if row.told else {} for row in rows]
    names = await _names(db, {row.who for row in rows} | {_person_in(one.get("subject", "")) for one in told})
    return [
        w.AuditEntry(
            number=row.number, at=row.at, who=row.who, name=_name(names, row.who), act=row.act,
            text=texts.get(row.act, row.act), subject=_readable(one.get("subject", ""), names),
            asked=one.get("asked", ""), refused=row.status, address=origin.get("address", ""),
            device=device_words(origin.get("device", "")),
            rows=[w.AuditedRow.model_validate(r) for r in one.get("rows", [])], more=one.get("more", 0),
            taken_out=row.origin is None or row.told is None,
        )
        for row, one in zip(rows, told, strict=True)
        for origin in [json.loads(row.origin) if row.origin else {}]
    ]  # fmt: skip


def _person_in(subject: str) -> str:
    return subject.removeprefix("people/") if subject.startswith("people/person ") else ""


def _readable(subject: str, names: dict[str, str]) -> str:
    who = _person_in(subject)
    return f"people/{_name(names, who)}" if who else subject


def _name(names: dict[str, str], who: str) -> str:
    kind = who.split(" ")[0]
    return names.get(who) or (LEFT if kind == "person" else who or NOBODY)


async def _names(db: AsyncSession, who: Collection[str]) -> dict[str, str]:
    """What identities are called now."""
    found: dict[str, str] = {}
    for kind, table in (("person", t.Person), ("key", t.Key), ("helper", t.HelperLink)):
        numbers = [int(one.split(" ")[1]) for one in who if one.startswith(f"{kind} ")]
        query = select(table.id, table.name).where(table.id.in_(numbers))
        for number, name in (await db.execute(query)).all() if numbers else ():
            found[f"{kind} {number}"] = name if kind == "person" else f"{name} ({kind} {number})"
    return found


async def identity_of(db: AsyncSession, who: str) -> str:
    """An identity from what somebody asks for: a login, or an identity itself."""
    number = (await db.execute(select(t.Person.id).where(t.Person.login == who))).scalar_one_or_none()
    return f"person {number}" if number else who
