"""How the service itself is: its database, disk, clocks, tenders and workers."""

from __future__ import annotations

import asyncio
import shutil
from dataclasses import dataclass, field
from typing import Annotated

from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from chronarch.service.context import ServiceContext, part
from chronarch.service.ledger.prover import LedgerProver
from chronarch.service.loop_watch import LoopWatch
from chronarch.service.machines.fleet import Fleet
from chronarch.service.system.backup.keeper import BackupKeeper
from chronarch.service.system.clock_trouble import clock_troubles
from chronarch.service.workers import Worker
from chronarch.wire.system import health as w

LEAST_FREE = 1 << 30
"""Bytes. With less room on the disk, uploads will soon be refused."""
MOST_LAG_S, MOST_HELD_S = 30.0, 1.0


@dataclass
class HealthCheck:
    """Looks at the parts of one service."""

    context: ServiceContext
    fleet: Fleet
    watch: LoopWatch
    prover: LedgerProver
    backups: BackupKeeper
    workers: list[Worker] = field(default_factory=list)

    async def look(self) -> w.Health:
        """How everything is now; `problems` says in words what is not as it should be."""
        database = await self._database()
        blobs = shutil.disk_usage(self.context.config.blobs)
        names = sorted({known.tender for known in self.fleet.all()} | set(self.fleet.connections))
        tenders = [
            w.TenderHealth(
                name=name,
                since=connection.since if (connection := self.fleet.connections.get(name)) else None,
                machines=sum(known.tender == name for known in self.fleet.all()),
            )
            for name in names
        ]
        workers = [
            w.WorkerHealth(
                name=one.name, beat_at=one.beat_at, lag_s=one.lag_s, restarts=one.restarts, problem=one.problem
            )
            for one in self.workers
        ]
        problems = [f"the database does not answer: {database.problem}"] if database.problem else []
        problems += [
            f"tender {one.name} is away; it has {one.machines} machine{'s' * (one.machines != 1)}"
            for one in tenders
            if not one.since
        ]
        problems += [f"{one.name}: {one.problem}" for one in workers if one.problem]
        problems += [f"{one.name} lags by {one.lag_s:.0f} s" for one in workers if one.lag_s > MOST_LAG_S]
        held = self.watch.worst()
        if held is not None and held.busy_s > MOST_HELD_S:
            problems.append(f"{held.where} held the service up for {held.held_s:.1f} s")
        problems += self._disk(blobs.free) + self._clocks() + self._ledger() + self.backups.troubles()
        return w.Health(
            problems=problems, database=database, disk_free=blobs.free, disk_size=blobs.total,
            shop_now=self.context.clock.now(), real_now=self.context.clock.real_now(), rate=self.context.clock.rate,
            tenders=tenders, workers=workers, held=held, ledger_proved_at=self.prover.last and self.prover.last.at,
        )  # fmt: skip

    async def troubles(self) -> list[tuple[str, bool]]:
        """What is wrong with the service itself, each with whether it cannot wait."""
        free = (await asyncio.to_thread(shutil.disk_usage, self.context.config.blobs)).free
        failing = [f"{one.name}: {one.problem}" for one in self.workers if one.problem]
        wait = [*self._clocks(), *self._ledger(), *self.backups.troubles(), *failing]
        return [*((text, True) for text in self._disk(free)), *((text, False) for text in wait)]

    def _ledger(self) -> list[str]:
        """That the ledger was not whole when it was proved last."""
        last = self.prover.last
        if last is None or not last.found:
            return []
        faults = f"{last.found:,} fault{'s' * (last.found != 1)}"
        return [f"the ledger has {faults} (`chronarch ledger verify`); the first, of {last.faults[0].machine}: "
                f"{last.faults[0].text}"]  # fmt: skip

    def _clocks(self) -> list[str]:
        return clock_troubles(self.context.clock, self.fleet.connections.values())

    def _disk(self, free: int) -> list[str]:
        return [] if free >= LEAST_FREE else [f"the disk of {self.context.config.blobs} has {free / 1e9:.1f} GB left"]

    async def _database(self) -> w.DatabaseHealth:
        asked = self.context.clock.monotonic_s()
        problem = ""
        try:
            async with self.context.sessions() as db:
                await db.execute(text("select 1"))
        except (SQLAlchemyError, OSError) as error:
            problem = str(error).splitlines()[0][:200]
        return w.DatabaseHealth(answered_in_s=self.context.clock.monotonic_s() - asked, problem=problem)


TheHealthCheck = Annotated[HealthCheck, part(HealthCheck)]
