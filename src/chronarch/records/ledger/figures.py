"""What figures are worked out from: ledgers as columns, and sums of builds that ended in spans of time."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Sequence
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import and_, bindparam, case, column, func, literal, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.calendar import Labels, StateChanges, TimeSpans
from chronarch.core.ledger.measures import STATES
from chronarch.core.ledger.turnaround import EPOCH, microseconds
from chronarch.core.machines.states import Outcome
from chronarch.core.orders.states import Verdict
from chronarch.records.base import UtcTime
from chronarch.records.ledger.intervals import touching
from chronarch.records.ledger.stops import STOPS, WHY
from chronarch.records.ledger.tables import BuildCost, Energy, Ledger
from chronarch.records.library.tables import File, Part
from chronarch.records.orders.tables import Build, BuildUse, Job, Order

AT_ONCE = 50
"""So many machines' intervals are read at a time."""
_BUILT = {
    "builds": func.count(Build.id),
    "judged": func.count(Build.verdict),
    "good": func.sum(case((Build.verdict == Verdict.GOOD, 1), else_=0)),
    "scrap": func.sum(case((Build.verdict == Verdict.SCRAP, 1), else_=0)),
    "pieces": func.sum(case((Build.verdict.is_not(None), Build.pieces), else_=0)),
    "good_pieces": func.sum(
        case((Build.verdict == Verdict.GOOD, func.coalesce(Build.good_pieces, Build.pieces)), else_=0)
    ),
    "made_s": func.sum(Build.planned_s * Build.acknowledged / func.greatest(Build.commands, 1)),
    "completed_s": func.sum(case((Build.outcome == Outcome.COMPLETED, Build.took_s), else_=0)),
    "planned_s": func.sum(case((Build.outcome == Outcome.COMPLETED, Build.planned_s), else_=0)),
    "grams": func.sum(Build.grams),
    "by_hand": func.sum(case((and_(Build.cleared_at.is_not(None), Build.let_go.is_(False)), 1), else_=0)),
}
_DUE = func.coalesce(Job.due_at, Order.due_at)
_GOOD_DUE = and_(Build.verdict == Verdict.GOOD, _DUE.is_not(None))
_PROMISED = {
    "due": func.sum(case((_GOOD_DUE, 1), else_=0)),
    "on_time": func.sum(case((and_(_GOOD_DUE, Build.ended_at <= _DUE), 1), else_=0)),
}
"""These need a build's job and order."""
_COST = {
    "cost": func.sum(BuildCost.total),
    "scrap_cost": func.sum(case((Build.verdict == Verdict.SCRAP, BuildCost.total), else_=0)),
}
"""These need what it cost."""
Joined = Callable[[Any], Any]


def _of_file(query: Any) -> Any:
    return query.join(File, File.id == Build.file_id).outerjoin(Part, Part.id == File.part_id)


def _of_job(query: Any) -> Any:
    return query.join(Job, Job.id == Build.job_id).outerjoin(Order, Order.id == Job.order_id)


def _of_use(query: Any) -> Any:
    return query.outerjoin(BuildUse, BuildUse.build_id == Build.id)


BUILD_PARTS: dict[str, tuple[Any, Joined | None]] = {
    "part": (func.coalesce(Part.name, ""), _of_file),
    "file": (File.name, _of_file),
    "material": (func.coalesce(BuildUse.material, ""), _of_use),
    "colour": (func.coalesce(BuildUse.colour, ""), _of_use),
    "customer": (func.coalesce(Order.customer, ""), _of_job),
    "person": (Build.judged_by, None),
    "outcome": (Build.outcome, None),
    "scrap_reason": (Build.scrap_reason, None),
}
"""What of a build figures are asked by, and what must be joined for it."""


async def changes(db: AsyncSession, machines: Sequence[int], begin: datetime, end: datetime) -> dict[int, StateChanges]:
    """What machines' ledgers say of begin..end, by machine number. The database hands each machine's intervals over as
    one text, because so many rows would take far longer than they are worth."""
    found = {}
    codes = ", ".join(f"'{state}'" for state in STATES)
    for n in range(0, len(machines), AT_ONCE):
        some = touching(machines[n : n + AT_ONCE], begin, end)
        began = func.timestampdiff(text("microsecond"), EPOCH.replace(tzinfo=None), some.c.begin_at)
        code = func.field(some.c.state, text(codes)) - 1
        query = select(some.c.machine_id, func.group_concat(began, ",", code)).group_by(some.c.machine_id)
        for machine, told in await db.execute(query):
            pairs = np.array(told.split(","), np.int64).reshape(-1, 2)
            pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
            begins = np.maximum(pairs[:, 0], microseconds(begin))
            found[machine] = StateChanges(begins, pairs[:, 1].astype(np.int8), microseconds(end))
    return found


Counted = tuple[int, Labels, Labels, dict[str, float]]
"""A machine's number, labels of the calendar, labels of the builds, and sums."""


async def built(
    db: AsyncSession,
    machines: Sequence[int],
    spans: TimeSpans,
    parts: Sequence[str],
    where: Sequence[Any],
    counts: Collection[str],
) -> list[Counted]:
    """What was counted of the builds of machines that ended in spans of time, by machine, labels of the spans and parts
    of `BUILD_PARTS`; of those alone that are like `where`. What was due, and what builds cost, is counted where it is
    among `counts`. A build of two materials counts for both."""
    table, kinds = _spans(spans)
    columns = [BUILD_PARTS[part][0] for part in parts]
    sums, joined = dict(_BUILT), []
    for more, how in ((_PROMISED, _of_job), (_COST, _with_cost)):
        if more.keys() & set(counts):
            sums |= more
            joined.append(how)
    keys = [table.c.n, Build.machine_id, *columns]
    query = _ended(select(*keys, *sums.values()), table, machines, parts, where, joined)
    rows = (await db.execute(query.group_by(*keys))).all()
    return [_counted(row, kinds, len(parts), list(sums)) for row in rows]


async def drawn(
    db: AsyncSession, machines: Sequence[int], spans: TimeSpans, parts: Sequence[str], where: Sequence[Any]
) -> list[Counted]:
    """The Wh that were drawn for the same builds."""
    table, kinds = _spans(spans)
    keys = [table.c.n, Build.machine_id, *(BUILD_PARTS[part][0] for part in parts)]
    query = _ended(select(*keys, func.sum(Energy.wh)), table, machines, parts, where, (_with_energy,))
    rows = (await db.execute(query.group_by(*keys))).all()
    return [_counted(row, kinds, len(parts), ["wh"]) for row in rows]


STOP_REASON = "stop_reason"


async def stopped(
    db: AsyncSession, machines: Sequence[int], spans: TimeSpans, by_reason: bool, now: datetime
) -> list[Counted]:
    """The stops of machines that began in spans of time, and the seconds until they were over or `now`."""
    table, kinds = _spans(spans)
    keys = [table.c.n, Ledger.machine_id, *([WHY] if by_reason else [])]
    until = func.least(Ledger.end_at, literal(now, UtcTime))
    lasted = func.sum(func.timestampdiff(text("microsecond"), Ledger.begin_at, until)) / 1e6
    within = and_(Ledger.begin_at >= table.c.begins, Ledger.begin_at < table.c.ends)
    query = (
        select(*keys, func.count(), lasted)
        .select_from(table.join(Ledger, within))
        .where(Ledger.machine_id.in_(machines), Ledger.state.in_(STOPS), Ledger.begin_at < now)
        .where(Ledger.end_at > EPOCH + timedelta(microseconds=int(spans.edges[0])))  # because the index has that
        .group_by(*keys)
    )
    rows = (await db.execute(query)).all()
    return [_counted(row, kinds, int(by_reason), ["stops", "stopped_s"]) for row in rows]


def ended_within(spans: Sequence[tuple[int, int]]) -> Any:
    """The numbers of the builds that ended in spans, given in microseconds since 1970."""
    table = _given([(0, *span) for span in spans])
    return select(Build.id).prefix_with("straight_join").select_from(table.join(Build, _within(table)))


def _with_cost(query: Any) -> Any:
    return query.outerjoin(BuildCost, BuildCost.build_id == Build.id)


def _with_energy(query: Any) -> Any:
    return query.join(Energy, and_(Energy.build_id == Build.id, Energy.machine_id == Build.machine_id))


def _within(table: Any) -> Any:
    return and_(Build.ended_at >= table.c.begins, Build.ended_at < table.c.ends)


def _ended(
    query: Any, table: Any, machines: Sequence[int], parts: Sequence[str], where: Sequence[Any], more: Sequence[Joined]
) -> Any:
    """The builds of machines that ended in spans, with what must be joined. The spans come first, so that builds are
    found by when they ended."""
    query = query.prefix_with("straight_join").select_from(table.join(Build, _within(table)))
    for joined in dict.fromkeys([*(how for part in parts if (how := BUILD_PARTS[part][1])), *more]):
        query = joined(query)
    return query.where(Build.machine_id.in_(machines), *where)


def _counted(row: Sequence[Any], kinds: Sequence[Labels], parts: int, names: Sequence[str]) -> Counted:
    kind, machine, rest = row[0], row[1], row[2:]
    sums = {name: float(amount or 0) for name, amount in zip(names, rest[parts:], strict=True)}
    return machine, kinds[kind], tuple(str(label) for label in rest[:parts]), sums


def _spans(spans: TimeSpans) -> tuple[Any, list[Labels]]:
    """The spans as a table: the number of each one's labels, when it begins and ends; and the labels by number."""
    kinds = {labels: n for n, labels in enumerate(dict.fromkeys(spans.labels))}
    ends = spans.edges.tolist()
    numbered = zip((kinds[one] for one in spans.labels), ends, ends[1:], strict=False)
    return _given(list(numbered)), list(kinds)


def _given(spans: Sequence[tuple[int, int, int]]) -> Any:
    """Spans as a table: a number, and from when to when it reaches."""
    rows = [[number, _written(begin), _written(end)] for number, begin, end in spans]
    table = text(
        "select n, begins, ends from json_table(:spans, '$[*]' columns"
        " (n int path '$[0]', begins datetime(6) path '$[1]', ends datetime(6) path '$[2]')) as given"
    )
    named = table.bindparams(bindparam("spans", json.dumps(rows), unique=True))
    return named.columns(column("n"), column("begins"), column("ends")).subquery()


def _written(at: int) -> str:
    return f"{EPOCH + timedelta(microseconds=at):%Y-%m-%d %H:%M:%S.%f}"
