"""Reading and writing the ledger's intervals, and the days that add them up."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime
from typing import Any

import numpy as np
from sqlalchemy import delete, func, literal, select, text, tuple_, union_all
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import OPEN_END, Interval, by_day, whole_days
from chronarch.core.ledger.turnaround import Times
from chronarch.core.machines.states import MachineState
from chronarch.records.base import UtcTime
from chronarch.records.ledger.tables import Ledger, LedgerDay
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build
from chronarch.records.paging import moment, number, page_of

TimeInStates = dict[int, dict[MachineState, int]]
"""Microseconds, by machine number and state."""
_COLUMNS = (Ledger.machine_id, Ledger.state, Ledger.begin_at, Ledger.end_at, Ledger.build_id)


def _touching(machines: Sequence[int], begin: datetime, end: datetime) -> Any:
    """The intervals of machines that touch begin..end: those that end in it, and of each machine the one that lasts
    beyond it. By what they end with, because the index has that."""
    beyond = (
        select(Ledger.machine_id, func.min(Ledger.end_at))
        .where(Ledger.machine_id.in_(machines), Ledger.end_at > end)
        .group_by(Ledger.machine_id)
    )
    ended = select(*_COLUMNS).where(Ledger.machine_id.in_(machines), Ledger.end_at > begin, Ledger.end_at <= end)
    last = select(*_COLUMNS).where(tuple_(Ledger.machine_id, Ledger.end_at).in_(beyond), Ledger.begin_at < end)
    return union_all(ended, last).subquery()


async def ledger_between(
    db: AsyncSession, machines: Sequence[int], begin: datetime, end: datetime, after: Sequence[Any], most: int
) -> list[tuple[int, Interval]]:
    """Machines' intervals that touch begin..end, whole, by machine number and oldest first; those after the one of a
    machine that began at a time."""
    found = _touching(machines, begin, end)
    place = (number(found.c.machine_id), moment(found.c.begin_at))
    rows = await db.execute(page_of(select(found), place, after, most))
    return [
        (machine, Interval(began, ended, MachineState(state), build)) for machine, state, began, ended, build in rows
    ]


def _clipped(machines: Sequence[int], begin: datetime, end: datetime, lasting: bool) -> Any:
    """Time by machine and state in the parts of intervals that lie in begin..end: of those that still last, or of the
    others."""
    found = _touching(machines, begin, end)
    from_, to = (
        func.greatest(found.c.begin_at, literal(begin, UtcTime)),
        func.least(found.c.end_at, literal(end, UtcTime)),
    )
    within = func.sum(func.timestampdiff(text("microsecond"), from_, to))
    wanted = found.c.end_at == OPEN_END if lasting else found.c.end_at != OPEN_END
    return select(found.c.machine_id, found.c.state, within).where(wanted).group_by(found.c.machine_id, found.c.state)


async def time_in_states(db: AsyncSession, machines: Sequence[int], begin: datetime, end: datetime) -> TimeInStates:
    """How long machines were in each state within begin..end: whole days from their sums, the rest and what still
    lasts from the intervals. All in one statement, so that a state that ends meanwhile is neither lost nor counted
    twice."""
    first, last = whole_days(begin, end)
    queries = [_clipped(machines, a, b, False) for a, b in ((begin, first), (last, end)) if a < b]
    queries.append(_clipped(machines, begin, end, True))
    if first < last:
        days = select(LedgerDay.machine_id, LedgerDay.state, func.sum(LedgerDay.microseconds))
        of = (LedgerDay.machine_id.in_(machines), LedgerDay.state.in_(list(MachineState)))  # in the order of the key
        within = (*of, LedgerDay.day >= first.date(), LedgerDay.day < last.date())
        queries.append(days.where(*within).group_by(LedgerDay.machine_id, LedgerDay.state))
    found: TimeInStates = {machine: {} for machine in machines}
    for machine, state, microseconds in await db.execute(union_all(*queries)):
        at = MachineState(state)
        found[machine][at] = found[machine].get(at, 0) + int(microseconds)
    return found


_RAN = """
set statement group_concat_max_len = 1073741824 for
select machine_id, group_concat(timestampdiff(microsecond, '1970-01-01', started_at), ',',
                                timestampdiff(microsecond, '1970-01-01', coalesce(ended_at, :now)))
  from build where started_at >= :begin and started_at < :end group by machine_id
"""


async def builds_that_ran(db: AsyncSession, begin: datetime, end: datetime, now: datetime) -> Times:
    """Machine, start and end of the builds that began in begin..end; `now` for those that have not ended. The database
    hands each machine's times over as one text, because so many rows would take far longer than they are worth."""
    span = {
        name: at.astimezone(UTC).replace(tzinfo=None) for name, at in (("begin", begin), ("end", end), ("now", now))
    }
    found = [np.zeros((0, 3), np.int64)]
    for machine, times in await db.execute(text(_RAN), span):
        pairs = np.array(times.split(","), np.int64).reshape(-1, 2)
        found.append(np.column_stack([np.full(len(pairs), machine, np.int64), pairs]))
    return np.concatenate(found)


async def builds_ended_between(
    db: AsyncSession, machines: Sequence[int], begin: datetime, end: datetime
) -> dict[int, dict[str, tuple[int, float]]]:
    """How many builds ended in begin..end, and their grams, by machine number and verdict (empty: not judged yet)."""
    rows = await db.execute(
        select(Build.machine_id, func.coalesce(Build.verdict, ""), func.count(), func.sum(Build.grams))
        .where(Build.machine_id.in_(machines), Build.ended_at >= begin, Build.ended_at < end)
        .group_by(Build.machine_id, Build.verdict)
    )
    made: dict[int, dict[str, tuple[int, float]]] = {}
    for machine, verdict, count, grams in rows:
        made.setdefault(machine, {})[verdict] = count, grams
    return made


async def enter_state(
    db: AsyncSession, machine: Machine, at: datetime, state: MachineState, reason: str, build: int | None
) -> None:
    """Write a machine's new state into its row and the ledger: the open interval ends where the new one begins."""
    last = (
        await db.execute(
            select(Ledger).where(Ledger.machine_id == machine.id, Ledger.end_at == OPEN_END).with_for_update()
        )
    ).scalar_one_or_none()
    machine.reason = reason[:300]
    if last is not None and last.state == state and last.build_id == build:
        machine.state = state
        return
    if last is not None:
        at = max(at, last.begin_at)
        if last.begin_at == at:
            await db.delete(last)
        else:
            last.end_at = at
            await _add_days(db, machine.id, [(last.state, last.begin_at, at)])
        await db.flush()
    machine.state, machine.since = state, at
    db.add(Ledger(machine_id=machine.id, state=state, begin_at=at, end_at=OPEN_END, build_id=build))


async def _add_days(db: AsyncSession, machine: int, ended: Iterable[tuple[str, datetime, datetime]]) -> None:
    """Add intervals of a machine that have ended, each a state with begin and end, to the sums of their days."""
    sums: Counter[tuple[date, str]] = Counter()
    for state, begin, end in ended:
        for day, microseconds in by_day(begin, end):
            sums[day, state] += microseconds
    if sums:
        more = insert(LedgerDay)
        total = LedgerDay.microseconds + more.inserted.microseconds
        rows = [
            {"day": day, "machine_id": machine, "state": state, "microseconds": microseconds}
            for (day, state), microseconds in sorted(sums.items())
        ]
        await db.execute(more.on_duplicate_key_update(microseconds=total), rows)


async def rebuild_days(db: AsyncSession, machine: int) -> int:
    """Make the sums of a machine's days anew from its intervals, committed here. Returns how many intervals there
    were. The machine's row is locked meanwhile, so that no interval ends."""
    await db.execute(select(Machine.id).where(Machine.id == machine).with_for_update())
    await db.execute(delete(LedgerDay).where(LedgerDay.machine_id == machine))
    query = select(Ledger.state, Ledger.begin_at, Ledger.end_at)
    rows = (await db.execute(query.where(Ledger.machine_id == machine, Ledger.end_at != OPEN_END))).all()
    await _add_days(db, machine, rows)
    await db.commit()
    return len(rows)
