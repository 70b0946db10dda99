"""Proves the ledger, when asked and once a day, one machine after another."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Annotated

from chronarch.records.ledger.proof import MachineProof, prove
from chronarch.service.background import Background
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.workers import LongWork
from chronarch.wire.common import fill
from chronarch.wire.ledger.intervals import LedgerFault, LedgerProof

LOOK_EVERY_S = 20.0
FIRST_S, EVERY_S = 600.0, 86_400.0
"""When the whole ledger is proved first without being asked, and how often after that, real seconds."""
MOST_SHOWN = 1000
BREATH_S = 0.05
"""Between two machines others have their turn."""


@dataclass
class LedgerProver:
    """Keeps what the last proof of all machines came to."""

    context: ServiceContext
    fleet: Fleet
    background: Background
    last: LedgerProof | None = None
    _due_s: float | None = None
    _work: LongWork = field(default_factory=LongWork)

    async def look(self) -> None:
        """Prove all when that is due. This is the step of one worker."""
        if self._work.busy():
            return
        now_s = self.context.clock.monotonic_s()
        if self._due_s is None:
            self._due_s = now_s + FIRST_S
        elif now_s >= self._due_s:
            self._due_s = now_s + EVERY_S
            self._work.begin(self.prove(self.fleet.all()))

    async def prove(self, machines: Sequence[FleetMachine]) -> LedgerProof:
        """Prove the ledgers of some machines. If these are all, it is remembered."""
        begun_s, at = time.monotonic(), self.context.clock.now()
        found: list[tuple[str, MachineProof]] = []
        for known in machines:
            found.append((known.row.name, await self.background.run(partial(prove, machine=known.row.id))))
            await asyncio.sleep(BREATH_S)
        faults = [fill(LedgerFault, fault, machine=name) for name, one in found for fault in one.faults]
        proof = LedgerProof(
            at=at, took_s=time.monotonic() - begun_s, machines=len(found),
            intervals=sum(one.intervals for _, one in found), builds=sum(one.builds for _, one in found),
            grams=sum(one.grams for _, one in found), wh=sum(one.wh for _, one in found),
            found=len(faults), faults=faults[:MOST_SHOWN],
        )  # fmt: skip
        if len(found) == len(self.fleet.all()):
            self.last = proof
        return proof


TheLedgerProver = Annotated[LedgerProver, part(LedgerProver)]
