"""Rolls the old part of machines' ledgers up into days."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, func, insert, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import OPEN_END, Interval
from chronarch.core.ledger.roll_up import rolled_up
from chronarch.core.machines.states import MachineState
from chronarch.records.ledger.intervals import rebuild_days
from chronarch.records.ledger.tables import Ledger
from chronarch.records.machines.tables import Machine


@dataclass(frozen=True)
class RolledUp:
    """How many intervals of a machine there were before a time and how many tell it now, and the microseconds in each
    state by both."""

    before: int
    after: int
    was: Counter[MachineState]
    became: Counter[MachineState]


async def roll_up(db: AsyncSession, machine: int, before: datetime, *, do: bool) -> RolledUp:
    """Roll up what a machine's ledger says of the time before a midnight (UTC), committed here; without `do` only say
    what it would come to. The machine's row is locked meanwhile, so that no interval ends. Raises ValueError when the
    figures would not be the same: then nothing is changed."""
    await db.execute(select(Machine.id).where(Machine.id == machine).with_for_update())
    rows = (
        (await db.execute(
            select(Ledger).where(Ledger.machine_id == machine, Ledger.begin_at < before).order_by(Ledger.begin_at)
        )).scalars().all()
    )  # fmt: skip
    old = [Interval(r.begin_at, r.end_at, MachineState(r.state), r.build_id, r.reason) for r in rows]
    new = rolled_up(old, before)
    found = RolledUp(len(old), sum(i.begin < before for i in new), _time(old, before), _time(new, before))
    if found.was != found.became:
        raise ValueError(f"the time in each state would not stay the same: {found.was} and {found.became}")
    if do and old:
        rolled_to = func.greatest(func.coalesce(Machine.ledger_rolled_to, before), before)
        await db.execute(update(Machine).where(Machine.id == machine).values(ledger_rolled_to=rolled_to))
        await db.execute(delete(Ledger).where(Ledger.machine_id == machine, Ledger.begin_at < before))
        await db.execute(
            insert(Ledger),
            [
                {"machine_id": machine, "state": i.state, "begin_at": i.begin, "end_at": i.end, "build_id": i.build,
                 "reason": i.reason}
                for i in new
            ],
        )  # fmt: skip
        if any(i.begin == before and i.end == OPEN_END for i in new):
            await rebuild_days(db, machine)  # what lasts is counted as ended up to there
    await db.commit()
    return found


def _time(ledger: Sequence[Interval], before: datetime) -> Counter[MachineState]:
    """Microseconds in each state before a time."""
    found: Counter[MachineState] = Counter()
    for i in ledger:
        if i.begin < before:
            found[i.state] += (min(i.end, before) - i.begin) // timedelta(microseconds=1)
    return found
