"""Reading and writing the ledger's intervals, and the days that add them up."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import and_, delete, func, literal, select, text, union_all
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import OPEN_END, Interval, by_day, whole_days
from chronarch.core.ledger.turnaround import Times
from chronarch.core.machines.states import MachineState
from chronarch.records.base import UtcTime
from chronarch.records.ledger.stops import STOPS, keep_stop
from chronarch.records.ledger.tables import Ledger, LedgerDay, LedgerMonth, TimeSum
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build
from chronarch.records.paging import moment, number, page_of

TimeInStates = dict[int, dict[MachineState, int]]
"""Microseconds, by machine number and state."""
_TIMES = (Ledger.machine_id, Ledger.state, Ledger.begin_at, Ledger.end_at)
"""What is read of many intervals: an index has it, so that their rows, which lie far apart, are not looked up."""
SUM_COLUMNS = ["machine_id", "day", "state", "microseconds"]
_COLUMNS = (*_TIMES, Ledger.build_id, Ledger.reason)


def touching(machines: Sequence[int], begin: datetime, end: datetime, columns: Sequence[Any] = _TIMES) -> Any:
    """The intervals of machines that touch begin..end: those that end in it, and of each machine the one that lasts
    beyond it. By what they end with, because the index has that."""
    around = Ledger.machine_id.between(min(machines, default=0), max(machines, default=0))
    beyond = (  # the index is skipped through from machine to machine, which a list of them would not let it
        select(Ledger.machine_id, func.min(Ledger.end_at).label("end_at"))
        .where(around, Ledger.end_at > end)
        .group_by(Ledger.machine_id)
        .subquery()
    )
    ended = select(*columns).where(Ledger.machine_id.in_(machines), Ledger.end_at > begin, Ledger.end_at <= end)
    same = and_(Ledger.machine_id == beyond.c.machine_id, Ledger.end_at == beyond.c.end_at)
    asked = (beyond.c.machine_id + 0).in_(machines)
    last = select(*columns).join(beyond, same).where(asked, Ledger.begin_at < end)
    return union_all(ended, last).subquery()


async def ledger_between(
    db: AsyncSession, machines: Sequence[int], begin: datetime, end: datetime, after: Sequence[Any], most: int
) -> list[tuple[int, Interval]]:
    """Machines' intervals that touch begin..end, whole, by machine number and oldest first; those after the one of a
    machine that began at a time."""
    found = touching(machines, begin, end, _COLUMNS)
    place = (number(found.c.machine_id), moment(found.c.begin_at))
    rows = await db.execute(page_of(select(found), place, after, most))
    return [(machine, _interval(row)) for machine, *row in rows]


async def of_build(db: AsyncSession, build: int) -> list[Interval]:
    """The intervals that name a build, oldest first."""
    rows = await db.execute(select(*_COLUMNS[1:]).where(Ledger.build_id == build).order_by(Ledger.begin_at))
    return [_interval(row) for row in rows]


def _interval(row: Sequence[Any]) -> Interval:
    state, began, ended, build, reason = row
    return Interval(began, ended, MachineState(state), build, reason)


def _clipped(found: Any, begin: datetime, end: datetime) -> Any:
    """Time by machine and state in the parts of intervals that lie in begin..end."""
    from_, to = (
        func.greatest(found.c.begin_at, literal(begin, UtcTime)),
        func.least(found.c.end_at, literal(end, UtcTime)),
    )
    within = func.sum(func.timestampdiff(text("microsecond"), from_, to))
    return select(found.c.machine_id, found.c.state, within).group_by(found.c.machine_id, found.c.state)


async def time_in_states(
    db: AsyncSession, machines: Sequence[int], begin: datetime, end: datetime,
    states: Iterable[MachineState] = MachineState,
) -> TimeInStates:  # fmt: skip
    """How long machines were in each state within begin..end: whole months and days from their sums, the rest and what
    still lasts from the intervals. All in one statement, so that a state that ends meanwhile is neither lost nor
    counted twice. Of whole days only some `states` are read, if those are all that matters."""
    first, last = whole_days(begin, end)
    lasting = select(*_TIMES).where(Ledger.machine_id.in_(machines), Ledger.end_at == OPEN_END, Ledger.begin_at < end)
    queries = [_clipped(lasting.subquery(), begin, end)]
    for a, b in ((begin, first), (last, end)):
        if a < b:
            part = touching(machines, a, b)
            queries.append(_clipped(select(part).where(part.c.end_at != OPEN_END).subquery(), a, b))
    for table, since, until in _summed(first.date(), last.date()):
        of = table.machine_id.in_(machines), table.state.in_(list(states))  # in the order of the key
        sums = select(table.machine_id, table.state, func.sum(table.microseconds)).where(*of)
        queries.append(sums.where(table.day >= since, table.day < until).group_by(table.machine_id, table.state))
    found: TimeInStates = {machine: {} for machine in machines}
    for machine, state, microseconds in await db.execute(union_all(*queries)):
        at = MachineState(state)
        found[machine][at] = found[machine].get(at, 0) + int(microseconds)
    return found


def _summed(first: date, last: date) -> Iterator[tuple[type[TimeSum], date, date]]:
    """The sums that make up whole days: those of months where there are whole ones, of days before and after."""
    begin = (first + timedelta(days=31)).replace(day=1) if first.day > 1 else first
    end = last.replace(day=1)
    spans: list[tuple[type[TimeSum], date, date]]
    spans = [(LedgerDay, first, begin), (LedgerMonth, begin, end), (LedgerDay, end, last)]
    for table, a, b in spans if begin < end else [(LedgerDay, first, last)]:
        if a < b:
            yield table, a, b


_RAN = """
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
    if build is not None and state in STOPS:
        await keep_stop(db, build, state, reason)
    db.add(
        Ledger(machine_id=machine.id, state=state, begin_at=at, end_at=OPEN_END, build_id=build, reason=reason[:300])
    )


async def _add_days(db: AsyncSession, machine: int, ended: Iterable[tuple[str, datetime, datetime]]) -> None:
    """Add intervals of a machine that have ended, each a state with begin and end, to the sums of their days and
    months."""
    days: Counter[tuple[date, str]] = Counter()
    months: Counter[tuple[date, str]] = Counter()
    for state, begin, end in ended:
        for day, microseconds in by_day(begin, end):
            days[day, state] += microseconds
            months[day.replace(day=1), state] += microseconds
    for table, sums in ((LedgerDay, days), (LedgerMonth, months)):
        more = insert(table)
        total = table.microseconds + more.inserted.microseconds
        rows = [
            {"day": day, "machine_id": machine, "state": state, "microseconds": microseconds}
            for (day, state), microseconds in sorted(sums.items())
        ]
        if rows:
            await db.execute(more.on_duplicate_key_update(microseconds=total), rows)


async def rebuild_days(db: AsyncSession, machine: int) -> int:
    """Make the sums of a machine's days and months anew from its intervals, committed here. Returns how many intervals
    there were. The machine's row is locked meanwhile, so that no interval ends."""
    await db.execute(select(Machine.id).where(Machine.id == machine).with_for_update())
    for table in (LedgerDay, LedgerMonth):
        await db.execute(delete(table).where(table.machine_id == machine))
    ended = Ledger.machine_id == machine, Ledger.end_at != OPEN_END
    first, last = func.date(Ledger.begin_at), func.date(Ledger.end_at)
    lasted = func.sum(func.timestampdiff(text("microsecond"), Ledger.begin_at, Ledger.end_at))
    within = select(literal(machine), first, Ledger.state, lasted).where(*ended, first == last)
    within = within.group_by(first, Ledger.state)
    await db.execute(insert(LedgerDay).from_select(SUM_COLUMNS, within))
    month = func.date_format(LedgerDay.day, "%Y-%m-01")
    sums = select(LedgerDay.machine_id, month, LedgerDay.state, func.sum(LedgerDay.microseconds))
    sums = sums.where(LedgerDay.machine_id == machine).group_by(LedgerDay.machine_id, month, LedgerDay.state)
    await db.execute(insert(LedgerMonth).from_select(SUM_COLUMNS, sums))
    over_midnight = select(Ledger.state, Ledger.begin_at, Ledger.end_at).where(*ended, first != last)
    await _add_days(db, machine, (await db.execute(over_midnight)).tuples())
    many = (await db.execute(select(func.count()).select_from(Ledger).where(*ended))).scalar_one()
    await db.commit()
    return many
