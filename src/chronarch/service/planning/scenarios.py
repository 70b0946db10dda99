"""What if: questions and answers."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.planning.forecast import promise
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.scenarios import (
    ExtraShift,
    JobsDueBy,
    MachineBack,
    MachineOut,
    MoreMachines,
    OtherStrategy,
    ScenarioChange,
    changed,
)
from chronarch.core.planning.snapshot import QueuePlan, SlotPhase, Snapshot
from chronarch.records import tables as t
from chronarch.records.orders import orders as records
from chronarch.records.orders.jobs import copies_of, names_of
from chronarch.service.machines.fleet import Fleet
from chronarch.service.orders.job_views import OVER
from chronarch.service.planning.snapshot import CurrentPlan
from chronarch.service.planning.views import foreseen, staffed_wire
from chronarch.service.problems import ApiProblem
from chronarch.wire.planning import scenarios as w

WEEK_S = 7 * 86400.0


# What if ---------------------------------------------------------------------------------------------------------


async def _core_changes(
    fleet: Fleet, db: AsyncSession, planned: CurrentPlan, wish: w.WhatIf
) -> tuple[list[ScenarioChange], str]:
    """The question as changes of a snapshot, and in words. Raises ApiProblem (404, 422)."""
    changes: list[ScenarioChange] = []
    words = []
    zone = fleet.zone
    for c in wish.changes:
        match c:
            case w.IfDue():
                if c.order is not None:
                    rows = (await records.jobs_of(db, [c.order]))[c.order]
                    if not rows:
                        raise ApiProblem(404, f"There is no order {c.order} with lines.")
                    jobs, name = frozenset(j.id for j in rows), f"order {c.order}"
                else:
                    jobs, name = frozenset({c.job or 0}), f"job {c.job}"
                if not jobs & {x.job for x in planned.snapshot.work} | (jobs & {r.job for r in planned.running}):
                    raise ApiProblem(
                        422, f"Nothing of {name} waits or is being made; there is nothing to bring forward."
                    )
                changes.append(JobsDueBy(jobs, c.due))
                words.append(f"{name} due {c.due.astimezone(zone):%a %d %b %H:%M}")
            case w.IfMachine():
                name = fleet.find(c.machine).row.name
                changes.append(MachineBack(name) if c.works else MachineOut(name))
                words.append(f"{name} {'in work' if c.works else 'out of work'}")
            case w.IfStaffed():
                changes.append(ExtraShift(c.begin, c.end, c.site))
                a, b = c.begin.astimezone(zone), c.end.astimezone(zone)
                words.append(f"somebody here {a:%a %d %b %H:%M} to {b:%H:%M}")
            case w.IfMore():
                changes.append(MoreMachines(_like(fleet, c.like), c.many))
                words.append(f"{c.many} more like {c.like}")
            case w.IfStrategy():
                changes.append(OtherStrategy(c.strategy))
                words.append(f"planned {c.strategy}")
    return changes, "With " + ", and ".join(words) + "?"


def _like(fleet: Fleet, text: str) -> str:
    """The machine of that name, or the first of that model."""
    for known in fleet.all():
        if text.lower() in (known.row.name.lower(), known.model.name.lower()):
            return known.row.name
    raise ApiProblem(404, f"There is neither a machine nor a model named {text!r}.")


async def what_if(fleet: Fleet, planned: CurrentPlan, db: AsyncSession, wish: w.WhatIf) -> w.WhatIfAnswer:
    """Both plans beside each other: the present one, and what would become of it."""
    changes, question = await _core_changes(fleet, db, planned, wish)
    try:
        then = changed(planned.snapshot, *changes)
    except ValueError as error:
        raise ApiProblem(422, f"That cannot be asked: {error}.") from None
    before = planned.plan
    after = make_plan(then, before if then.strategy == before.strategy else None)
    dues = {job: c.due for c in changes if isinstance(c, JobsDueBy) for job in c.jobs}
    asked = {(c.order, c.job) for c in wish.changes if isinstance(c, w.IfDue)}
    now = await _outlook(fleet, db, planned, planned.snapshot, before, {})
    would = await _outlook(fleet, db, planned, then, after, dues)
    return w.WhatIfAnswer(
        question=question, now=now, then=would, staffed=staffed_wire(then, timedelta(days=7)),
        answer=_answer(fleet, now, would, asked),
    )  # fmt: skip


async def _outlook(
    fleet: Fleet,
    db: AsyncSession,
    planned: CurrentPlan,
    snapshot: Snapshot,
    plan: QueuePlan,
    dues: dict[int, datetime],
) -> w.Outlook:
    f = planned.forecast_of(snapshot, plan)
    rows = await _orders_in_work(db)
    outlooks = []
    waiting = {work.job for work in snapshot.work if work.builds}
    for order, name, jobs, said in rows:
        due = max((dues[j] for j in jobs if j in dues), default=said)
        done = f.together(jobs, due, set(jobs) - waiting)
        outlooks.append(
            w.OrderOutlook(
                order=order, job=None if order is not None else jobs[0], name=name, due=due,
                expected=done.when, chance=done.chance, promise=promise(done, due),
            )
        )  # fmt: skip
    dated = [o for o in outlooks if o.due is not None]
    builds = foreseen(fleet, planned, plan, f, 200)
    return w.Outlook(
        orders=outlooks, ready=f.builds.last_cleared(), cannot=len(set(plan.unplaced)),
        productive=_productive(snapshot, plan, planned), in_time=sum(o.promise == "in time" for o in dated),
        due=len(dated), changes=sum((a.load is not None) + (a.nozzle is not None) for a in plan.assignments),
        builds=builds,
    )  # fmt: skip


async def _orders_in_work(db: AsyncSession) -> list[tuple[int | None, str, list[int], datetime | None]]:
    """Orders, and jobs without an order, with something left to do: number, name, jobs, due."""
    rows = list((await db.execute(select(t.Job).where(t.Job.open, ~t.Job.held))).scalars())
    copies = await copies_of(db, rows)
    live = [j for j in rows if copies[j.id].state(held=False, withdrawn=False) not in OVER]
    orders = {o.id: o for o in (await db.execute(select(t.Order).where(~t.Order.cancelled))).scalars()}
    names = await names_of(db, [j.id for j in live if j.order_id not in orders])
    found: dict[tuple[int | None, int], tuple[int | None, str, list[int], datetime | None]] = {}
    for j in live:
        order = orders.get(j.order_id or 0)
        if order is not None:
            found.setdefault((order.id, 0), (order.id, order.customer, [], order.due_at))[2].append(j.id)
        else:
            found[None, j.id] = (None, names[j.id], [j.id], j.due_at)
    return list(found.values())


def _productive(snapshot: Snapshot, plan: QueuePlan, planned: CurrentPlan) -> float:
    machines = [m for m in snapshot.machines if m.phase is not SlotPhase.AWAY]
    if not machines:
        return 0.0
    seconds = sum(max(0.0, min(a.end_s, WEEK_S) - min(a.start_s, WEEK_S)) for a in plan.assignments)
    seconds += sum(min(r.remaining_s, WEEK_S) for r in planned.running)
    return seconds / (WEEK_S * len(snapshot.machines))


def _answer(fleet: Fleet, now: w.Outlook, then: w.Outlook, wanted: set[tuple[int | None, int | None]]) -> str:
    """The answer in words: first what was asked for, then what it does to the others."""
    zone = fleet.zone

    def when(o: w.OrderOutlook) -> str:
        return f"{o.expected.likely.astimezone(zone):%a %H:%M}" if o.expected else "not at all as things are"

    parts = []
    before = {(o.order, o.job): o for o in now.orders}
    asked = [o for o in then.orders if (o.order, o.job) in wanted]
    for o in asked:
        if o.expected is None:
            parts.append(f"No: {o.name} cannot be completed as things are.")
            continue
        verb = {"in time": "Yes", "at risk": "Perhaps", "late": "No"}.get(o.promise, "No")
        parts.append(
            f"{verb}: {o.name} would be complete {when(o)} ({round(100 * (o.chance or 0))} of 100 times in time)."
        )
    worse = [o for o in then.orders if o not in asked and _rank(o) > _rank(before.get((o.order, o.job), o))]
    better = [o for o in then.orders if o not in asked and _rank(o) < _rank(before.get((o.order, o.job), o))]
    if better:
        parts.append("Better off: " + ", ".join(f"{o.name} ({o.promise}, {when(o)})" for o in better) + ".")
    if worse:
        parts.append("Worse off: " + ", ".join(f"{o.name} ({o.promise}, {when(o)})" for o in worse) + ".")
    if not worse and not better:
        parts.append("No order's promise changes by it." if not asked else "No other order's promise changes.")
    if then.cannot != now.cannot:
        parts.append(f"Jobs that no machine can make: {then.cannot} instead of {now.cannot}.")
    elif now.ready and then.ready:
        hours = (now.ready - then.ready) / timedelta(hours=1)
        if abs(hours) >= 0.25:
            parts.append(f"All that waits is done {abs(hours):.1f} h {'sooner' if hours > 0 else 'later'}.")
    return " ".join(parts)


def _rank(o: w.OrderOutlook) -> int:
    return ["done", "none", "in time", "at risk", "late", "unknown"].index(o.promise)
