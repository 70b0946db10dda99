"""The plan as the wire shows it, and the same for a plan that only might be."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.dispatch import Plan, Snapshot, make_plan
from chronarch.core.dispatch.shop import MEANING, Phase
from chronarch.core.dispatch.words import put_on, why_words
from chronarch.core.forecast import Forecast, promise
from chronarch.core.forecast import Range as CoreRange
from chronarch.core.reasons import why_idle
from chronarch.core.states import MachineState
from chronarch.core.what_if import By, Change, DueBy, MoreOf, Staffed, With, Without, changed
from chronarch.records import orders as records
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.jobs import OVER, range_wire
from chronarch.service.planning import Planned
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop
from chronarch.wire import plan as w
from chronarch.wire.common import Range
from chronarch.wire.shop import StaffedSpan

WEEK_S = 7 * 86400.0
SHOWN = 400
"""Builds of a plan that are sent."""
TOGETHER = timedelta(minutes=6)
"""Beds that are ready within so long of one another want hands at once."""


def staffed_wire(shop: Snapshot, until: timedelta) -> list[StaffedSpan]:
    """The hours of each site, from now for a while."""
    end = shop.at + until
    return [
        StaffedSpan(site=site, begin=a, end=min(b, end))
        for site, (spans, _) in sorted(shop.hands.items())
        for a, b in spans
        if a < end
    ]


def foreseen(shop: Shop, planned: Planned, plan: Plan, f: Forecast, most: int = SHOWN) -> list[w.Foreseen]:
    """What a plan has each machine do, with why."""
    found = []
    for b in f.builds[:most]:
        a = b.assignment
        load, nozzle = put_on(a)
        due = planned.dues.get(a.job)
        due_words = f"due {due.astimezone(shop.fleet.zone):%a %H:%M}" if due else "nothing is due"
        waiting = planned.waiting.get(a.job)
        found.append(
            w.Foreseen(
                machine=a.machine, job=a.job, what=waiting.name if waiting else f"job {a.job}",
                start=_range(b.start), end=_range(b.end), cleared=_range(b.cleared),
                hands=None if a.hands_s is None else plan.time(a.hands_s), load=load, nozzle=nozzle,
                why=why_words(a, plan.strategy, lambda s: plan.time(s).astimezone(shop.fleet.zone), due_words),
            )
        )  # fmt: skip
    return found


def _range(r: CoreRange) -> Range:
    made = range_wire(r)
    assert made is not None
    return made


def conflicts(shop: Shop, snapshot: Snapshot, f: Forecast) -> list[w.Conflict]:
    """Where three beds or more want the same hands at once, within the next day."""
    sites = {m.name: m.site for m in snapshot.machines}
    ready = [(r.likely, name) for name, r in f.ends.items()]
    ready += [(b.end.likely, b.assignment.machine) for b in f.builds]
    found: list[w.Conflict] = []
    for site in sorted(set(sites.values())):
        people = snapshot.hands.get(site, snapshot.hands.get("", ((), 1)))[1]
        mine = sorted((at, name) for at, name in ready if sites[name] == site and at < f.at + timedelta(days=1))
        start = 0
        while start < len(mine):
            end = start
            while end + 1 < len(mine) and mine[end + 1][0] - mine[start][0] <= TOGETHER:
                end += 1
            group = mine[start : end + 1]
            if len(group) >= 2 + people:
                names = [name for _, name in group]
                at = group[0][0]
                text = f"{len(names)} beds end around {shop.fleet.words(at, f.at)}: {', '.join(names)}"
                found.append(w.Conflict(at=at, machines=names, text=text))
            start = end + 1
    return sorted(found, key=lambda c: c.at)


async def plan_wire(shop: Shop, planned: Planned) -> w.Plan:
    """The plan with its forecast, and why machines stand idle."""
    f = planned.forecast()
    plan = planned.plan
    starting = {a.machine for a in plan.assignments if a.start_s <= 1.0}
    waiting = [(f"job {x.job.id} ({x.name})", x.options) for x in planned.waiting.values()]
    machines = []
    for known in shop.fleet.all():
        name = known.row.name
        at = shop.fleet.standing(known)
        idle = ""
        if at.state is MachineState.IDLE and not at.busy and name not in starting:
            idle = why_idle(at, waiting)
            first = plan.next_on(name)
            if first is not None and first.hands_s is not None:
                wanted = " and ".join(filter(None, put_on(first))) or "somebody to start it"
                idle = f"It waits for {wanted}: job {first.job} comes next."
        machines.append(
            w.OnMachine(
                machine=name, end=range_wire(f.ends.get(name)), cleared=range_wire(f.clears.get(name)), idle=idle
            )
        )  # fmt: skip
    return w.Plan(
        at=plan.at, strategy=plan.strategy, meaning=MEANING[plan.strategy],
        builds=foreseen(shop, planned, plan, f), machines=machines,
        staffed=staffed_wire(planned.snapshot, timedelta(days=7)),
        conflicts=conflicts(shop, planned.snapshot, f), unplaced=dict(plan.unplaced),
    )  # fmt: skip


# What if ---------------------------------------------------------------------------------------------------------


async def _core_changes(shop: Shop, db: AsyncSession, planned: Planned, wish: w.WhatIf) -> tuple[list[Change], str]:
    """The question as changes of a snapshot, and in words. Raises Refused (404, 422)."""
    changes: list[Change] = []
    words = []
    zone = shop.fleet.zone
    for c in wish.changes:
        match c:
            case w.IfDue():
                if c.order is not None:
                    rows = (await records.jobs_of(db, [c.order]))[c.order]
                    if not rows:
                        raise Refused(404, f"There is no order {c.order} with lines.")
                    jobs, name = frozenset(j.id for j in rows), f"order {c.order}"
                else:
                    jobs, name = frozenset({c.job or 0}), f"job {c.job}"
                if not jobs & {x.job for x in planned.snapshot.work} | (jobs & {r.job for r in planned.running}):
                    raise Refused(422, f"Nothing of {name} waits or is being made; there is nothing to bring forward.")
                changes.append(DueBy(jobs, c.due))
                words.append(f"{name} due {c.due.astimezone(zone):%a %d %b %H:%M}")
            case w.IfMachine():
                name = shop.fleet.find(c.machine).row.name
                changes.append(With(name) if c.works else Without(name))
                words.append(f"{name} {'in work' if c.works else 'out of work'}")
            case w.IfStaffed():
                changes.append(Staffed(c.begin, c.end, c.site))
                a, b = c.begin.astimezone(zone), c.end.astimezone(zone)
                words.append(f"somebody here {a:%a %d %b %H:%M} to {b:%H:%M}")
            case w.IfMore():
                changes.append(MoreOf(_like(shop, c.like), c.many))
                words.append(f"{c.many} more like {c.like}")
            case w.IfStrategy():
                changes.append(By(c.strategy))
                words.append(f"planned {c.strategy}")
    return changes, "With " + ", and ".join(words) + "?"


def _like(shop: Shop, text: str) -> str:
    """The machine that is meant by its name, or the first of a model."""
    for known in shop.fleet.all():
        if text.lower() in (known.row.name.lower(), known.model.name.lower()):
            return known.row.name
    raise Refused(404, f"There is neither a machine nor a model named {text!r}.")


async def what_if(shop: Shop, db: AsyncSession, wish: w.WhatIf) -> w.WhatIfAnswer:
    """Both plans side by side: the one that everybody sees, and what becomes of it."""
    planned = await shop.planner.renew(shop, db)
    changes, question = await _core_changes(shop, db, planned, wish)
    try:
        then = changed(planned.snapshot, *changes)
    except ValueError as error:
        raise Refused(422, f"That cannot be asked: {error}.") from None
    before = planned.plan
    after = make_plan(then, before if then.strategy == before.strategy else None)
    dues = {job: c.due for c in changes if isinstance(c, DueBy) for job in c.jobs}
    asked = {(c.order, c.job) for c in wish.changes if isinstance(c, w.IfDue)}
    now = await _outlook(shop, db, planned, planned.snapshot, before, {})
    would = await _outlook(shop, db, planned, then, after, dues)
    return w.WhatIfAnswer(
        question=question, now=now, then=would, staffed=staffed_wire(then, timedelta(days=7)),
        answer=_answer(shop, now, would, asked),
    )  # fmt: skip


async def _outlook(
    shop: Shop, db: AsyncSession, planned: Planned, snapshot: Snapshot, plan: Plan, dues: dict[int, datetime]
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
                expected=range_wire(done.when), chance=done.chance, promise=promise(done, due),
            )
        )  # fmt: skip
    dated = [o for o in outlooks if o.due is not None]
    ready = max((b.cleared.likely for b in f.builds), default=None)
    builds = foreseen(shop, planned, plan, f, 200)
    return w.Outlook(
        orders=outlooks, ready=ready, cannot=len(set(plan.unplaced)), productive=_productive(snapshot, plan, planned),
        in_time=sum(o.promise == "in time" for o in dated), due=len(dated),
        changes=sum((a.load is not None) + (a.nozzle is not None) for a in plan.assignments), builds=builds,
    )  # fmt: skip


async def _orders_in_work(db: AsyncSession) -> list[tuple[int | None, str, list[int], datetime | None]]:
    """Orders and orderless jobs with something left to do: number, name, jobs, due."""
    rows = list((await db.execute(select(t.Job).where(~t.Job.withdrawn, ~t.Job.held))).scalars())
    copies = await queries.copies_of(db, rows)
    live = [j for j in rows if copies[j.id].state(held=False, withdrawn=False) not in OVER]
    orders = {o.id: o for o in (await db.execute(select(t.Order).where(~t.Order.cancelled))).scalars()}
    names = await queries.names_of(db, [j.id for j in live if j.order_id not in orders])
    found: dict[tuple[int | None, int], tuple[int | None, str, list[int], datetime | None]] = {}
    for j in live:
        order = orders.get(j.order_id or 0)
        if order is not None:
            found.setdefault((order.id, 0), (order.id, order.customer, [], order.due_at))[2].append(j.id)
        else:
            found[None, j.id] = (None, names[j.id], [j.id], j.due_at)
    return list(found.values())


def _productive(snapshot: Snapshot, plan: Plan, planned: Planned) -> float:
    machines = [m for m in snapshot.machines if m.phase is not Phase.AWAY]
    if not machines:
        return 0.0
    seconds = sum(max(0.0, min(a.end_s, WEEK_S) - min(a.start_s, WEEK_S)) for a in plan.assignments)
    seconds += sum(min(r.remaining_s, WEEK_S) for r in planned.running)
    return seconds / (WEEK_S * len(snapshot.machines))


def _answer(shop: Shop, now: w.Outlook, then: w.Outlook, wanted: set[tuple[int | None, int | None]]) -> str:
    """In words: first what was asked for, then what it does to the others."""
    zone = shop.fleet.zone

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
