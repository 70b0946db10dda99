"""What takes the disk: measured again and again, kept by day, and given up on request."""

from __future__ import annotations

import asyncio
import os
import shutil
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Annotated

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.system.growth import Growing, days_until_full, growth_a_day
from chronarch.records import tables as t
from chronarch.records.machines import heat
from chronarch.records.system import storage as records
from chronarch.records.watching import films, frames
from chronarch.service.background import Background
from chronarch.service.context import ServiceContext, part
from chronarch.service.library.bin import empty_bin
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.intake import drop_unused
from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem
from chronarch.service.system.backup.keeper import BackupKeeper
from chronarch.service.watching.settings import load_watching
from chronarch.wire.system import storage as w
from chronarch.wire.system.storage import StoragePart

LOOK_EVERY_S = 600.0
KEPT_FOR, GROWS_OVER = timedelta(days=400), timedelta(days=30)
AT_ONCE = 200
"""How many things go in one request."""
FAR = timedelta(days=3650)


@dataclass
class StorageKeeper:
    """Measures, and gives up what can go."""

    context: ServiceContext
    fleet: Fleet
    store: ContentStore
    background: Background
    backups: BackupKeeper
    measured_at: datetime | None = None
    _sizes: dict[StoragePart, int] = field(default_factory=dict)
    _given_up: int = 0
    """How often something has gone."""
    _measured: int = -1
    """How often it had when measuring began."""
    _one: asyncio.Lock = field(default_factory=asyncio.Lock)

    async def look(self) -> None:
        """Measure, and keep it as the newest of the day."""
        async with self._one:
            await self._measure()

    async def _measure(self) -> None:
        given_up = self._given_up
        sizes = await self.background.run(_in_records)
        folder = self.context.config.blobs
        sizes[StoragePart.DERIVED] = await asyncio.to_thread(_below, folder / "derived")
        sizes[StoragePart.BACKUPS] = await self._backups()
        self._sizes, self.measured_at, self._measured = sizes, self.context.clock.now(), given_up
        today = self.measured_at.date()
        async with self.context.sessions() as db:
            kept = {one.value: size for one, size in sizes.items()}
            await records.keep_day(db, today, kept, today - KEPT_FOR)
            await db.commit()

    async def _backups(self) -> int:
        """What backups take of this disk; nothing where they lie elsewhere."""
        shown = await self.backups.shown()
        here = bool(shown.settings.address) and shown.same_disk
        return await asyncio.to_thread(_below, Path(shown.settings.address)) if here else 0

    async def shown(self) -> w.StorageShown:
        """What takes how much now, and when the disk will be full."""
        async with self._one:
            if self._measured != self._given_up:
                await self._measure()
        now = self.context.clock.now()
        disk = await asyncio.to_thread(shutil.disk_usage, self.context.config.blobs)
        async with self.context.sessions() as db:
            rows = await records.days(db, (now - GROWS_OVER).date())
            budgets = await self._budgets(db)
        shares = []
        for one in StoragePart:
            size, budget = self._sizes.get(one, 0), budgets.get(one)
            grows = growth_a_day([(row.day, row.size) for row in rows if row.part == one])
            share = w.StorageShare(part=one, size=size, budget=budget, a_day=grows, can_go=one in _GIVES_UP)
            shares.append(share)
        known = [one for one in shares if one.a_day is not None]
        grown = [
            Growing(one.a_day or 0.0, None if one.budget is None else max(0.0, one.budget - one.size)) for one in known
        ]
        days = days_until_full(disk.free, grown)
        return w.StorageShown(
            size=disk.total, free=disk.free, other=max(0, disk.total - disk.free - sum(one.size for one in shares)),
            measured_at=self.measured_at, since=min((row.day for row in rows), default=None),
            a_day=sum(one.a_day or 0.0 for one in known) if known else None,
            full_at=now + timedelta(days=days) if days is not None and days < FAR.days else None, parts=shares,
        )  # fmt: skip

    async def _budgets(self, db: AsyncSession) -> dict[StoragePart, int]:
        watching = await load_watching(db)
        samples = [known.sample for known in self.fleet.all() if known.sample]
        sensors = sum(len(sample.reading.further) for sample in samples if sample.reading)
        return {
            StoragePart.FRAMES: int(watching.frames_gb * 1e9),
            StoragePart.FILMS: int(watching.films_gb * 1e9),
            StoragePart.READINGS: heat.most_bytes(len(self.fleet.all()), sensors),
        }

    async def give_up(self, asked: w.GiveUp) -> w.GivenUp:
        """Give up some of what can go; asked again until there is no more. Raises ApiProblem (422)."""
        do = _GIVES_UP.get(asked.what)
        if do is None:
            can = ", ".join(_GIVES_UP)
            raise ApiProblem(422, f"{asked.what} cannot be given up: {can} can. Frames and films go by their budgets.")
        before = self.context.clock.now() - timedelta(days=asked.older_than_days)
        items = await do(self.context, self.store, before)
        self._given_up += 1
        return w.GivenUp(items=items, more=items >= AT_ONCE, text=_told(asked, items))


async def _in_records(db: AsyncSession) -> dict[StoragePart, int]:
    newest, earlier, binned, other = await records.contents(db)
    readings, rest = await records.tables(db)
    logs = int((await db.execute(select(func.sum(t.Build.log_bytes)))).scalar() or 0)
    return {
        StoragePart.FILES: newest, StoragePart.REVISIONS: earlier, StoragePart.BIN: binned, StoragePart.BUILDS: other,
        StoragePart.LOGS: logs, StoragePart.FRAMES: (await frames.total(db))[1],
        StoragePart.FILMS: (await films.taken(db))[0], StoragePart.READINGS: readings, StoragePart.RECORDS: rest,
    }  # fmt: skip


def _below(folder: Path) -> int:
    """Bytes of all files in a folder; what goes meanwhile is passed over."""
    size = 0
    for place, _, names in os.walk(folder):
        for name in names:
            try:
                size += (Path(place) / name).stat(follow_symlinks=False).st_size
            except OSError:
                continue
    return size


def _told(asked: w.GiveUp, items: int) -> str:
    kinds = {StoragePart.BIN: "file", StoragePart.REVISIONS: "earlier revision", StoragePart.LOGS: "line log"}
    kind, age = kinds[asked.what], f"{asked.older_than_days} day{'s' * (asked.older_than_days != 1)}"
    if items:
        return f"{items} {kind}{'s' * (items != 1)} given up."
    if not asked.older_than_days:
        return f"There is no {kind} to give up."
    return f"No {kind} has been in the bin for {age}." if asked.what is StoragePart.BIN else f"No {kind} is {age} old."


async def _revisions(context: ServiceContext, store: ContentStore, before: datetime) -> int:
    async with context.sessions() as db:
        found = await records.needless_revisions(db, before, AT_ONCE)
        contents = [one.sha256 for one in found]
        for one in found:
            await db.delete(one)
        await db.commit()
        await drop_unused(store, db, contents)
    return len(contents)


async def _logs(context: ServiceContext, store: ContentStore, before: datetime) -> int:
    async with context.sessions() as db:
        found = await records.old_logs(db, before, AT_ONCE)
        for build in found:
            build.log_bytes = None
        numbers = [build.id for build in found]
        await db.commit()
    for number in numbers:
        store.log(number).unlink(missing_ok=True)
    return len(numbers)


async def _bin(context: ServiceContext, store: ContentStore, before: datetime) -> int:
    async with context.sessions() as db:
        query = select(t.File.id).where(t.File.binned_at < before, ~t.File.emptied).order_by(t.File.id)
        found = (await db.execute(query.limit(AT_ONCE))).scalars().all()
    return await empty_bin(context, store, found) if found else 0


_GIVES_UP: dict[StoragePart, Callable[[ServiceContext, ContentStore, datetime], Awaitable[int]]] = {
    StoragePart.BIN: _bin,
    StoragePart.REVISIONS: _revisions,
    StoragePart.LOGS: _logs,
}

TheStorage = Annotated[StorageKeeper, part(StorageKeeper)]
