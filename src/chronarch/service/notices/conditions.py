"""What people are told of as long as it is so: a table of what to look at. Each looks at the shop once and says all
that holds now."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import BuildState, MachineState, Outcome
from chronarch.core.machines.upkeep_calls import Blocks
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.core.planning.together import conflicts
from chronarch.records import tables as t
from chronarch.records.machines.materials import load_materials
from chronarch.records.orders import orders as order_records
from chronarch.records.orders.jobs import copies_of
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.orders.order_views import OrderViews
from chronarch.service.planning.planner import Planner
from chronarch.service.planning.snapshot import CurrentPlan

OFFLINE_FOR, OFFLINE_FOR_S = timedelta(minutes=1), 5.0
"""Shop time, and real seconds, that must both have passed."""
AWAY_FOR_S, STUCK_FOR_S = 15.0, 10.0
"""Real seconds."""
MOST_ORDERS = 1000
TOGETHER_AHEAD = timedelta(hours=1)
SHORT_BY_G = 1.0


@dataclass(frozen=True)
class Found:
    """Something that is so now. `about` are further columns of its notice."""

    subject: str
    text: str
    gravity: Gravity | None = None
    about: dict[str, Any] = field(default_factory=dict)
    renewed: bool = False
    """Whether its open notice is to say this from now on."""


@dataclass
class ShopLook:
    """What is looked at."""

    db: AsyncSession
    now: datetime
    real_now: datetime
    fleet: Fleet
    planner: Planner
    orders: OrderViews
    planned: CurrentPlan | None
    counts: dict[NoticeKind, tuple[int, ...]]
    """The figures that anybody wants to hear of."""
    open: dict[NoticeKind, set[str]]
    """The subjects of what is open."""
    spool_low_g: float
    troubles: Sequence[tuple[str, bool]]
    """What is wrong with the service itself, each with whether it cannot wait."""
    lasting: Lasting
    promised: dict[str, list[Found]] | None = None
    """Orders in work, by what is promised of them, once somebody has asked."""

    def machine(self, known: FleetMachine) -> dict[str, Any]:
        return {"machine_id": known.row.id, "build_id": known.brief.id if known.brief else None}


@dataclass
class Lasting:
    """Since when something has been so that is told only once it has lasted."""

    _since: dict[str, datetime] = field(default_factory=dict)

    def for_s(self, what: str, so: bool, now: datetime) -> float:
        """For how many real seconds something has been so; 0 when it is not."""
        if not so:
            self._since.pop(what, None)
            return 0.0
        return (now - self._since.setdefault(what, now)).total_seconds()


async def _ids(look: ShopLook, *where: Any) -> list[Found]:
    return [Found(str(n), "") for n in (await look.db.execute(select(*where[:1]).where(*where[1:]))).scalars()]


async def down(look: ShopLook) -> list[Found]:
    return await _ids(look, t.Machine.id, t.Machine.state == MachineState.DOWN)


async def paused(look: ShopLook) -> list[Found]:
    return await _ids(look, t.Build.id, t.Build.open_machine.is_not(None), t.Build.state == BuildState.PAUSED)


async def failed(look: ShopLook) -> list[Found]:
    return await _ids(look, t.Build.id, t.Build.open_machine.is_not(None), t.Build.outcome == Outcome.FAILED)


async def stuck_parts(look: ShopLook) -> list[Found]:
    return await _ids(look, t.Machine.id, t.Machine.release_stuck != "")


async def suspected(look: ShopLook) -> list[Found]:
    return await _ids(look, t.Suspicion.id, t.Suspicion.over_at.is_(None), t.Suspicion.right.is_(None))


async def offline(look: ShopLook) -> list[Found]:
    found = []
    for known in look.fleet.all():
        power = known.sample.power if known.sample else None
        turned_off = power is not None and power.on is False  # at its plug, by somebody who knows
        away = look.fleet.standing(known).state is MachineState.OFFLINE and known.tender in look.fleet.connections
        gone = away and not turned_off
        lasted_s = look.lasting.for_s(f"offline {known.row.id}", gone, look.real_now)
        if gone and lasted_s >= OFFLINE_FOR_S and look.now - known.row.since >= OFFLINE_FOR:
            why = f": {known.row.reason}" if known.row.reason else ""
            text = f"{known.row.name} has not been reached since {look.fleet.words(known.row.since, look.now)}{why}"
            found.append(Found(str(known.row.id), text, None, look.machine(known)))
    return found


async def tenders_away(look: ShopLook) -> list[Found]:
    found = []
    for name in sorted({known.tender for known in look.fleet.all()}):
        away = name not in look.fleet.connections
        if look.lasting.for_s(f"tender {name}", away, look.real_now) < AWAY_FOR_S:
            continue
        machines = [known for known in look.fleet.all() if known.tender == name]
        busy = sum(known.brief is not None and known.brief.outcome is None for known in machines)
        text = f"The tender {name} is away; {len(machines)} machines hang on it"
        text += f", {busy} of them build on, unseen." if busy else "."
        found.append(Found(name, text, None if busy else Gravity.ACT, {"tender": name}))
    return found


async def hands_soon(look: ShopLook) -> list[Found]:
    """Once a build and figure; it stays until the bed is clear, whatever the forecast says by then."""
    found = []
    wanted, open_now = look.counts[NoticeKind.HANDS_SOON], look.open[NoticeKind.HANDS_SOON]
    ends = look.planned.forecast.ends if look.planned else {}
    for known in look.fleet.all():
        if known.brief is None:
            continue
        end = ends.get(known.row.name)
        working = known.brief.outcome is None and known.row.state == MachineState.BUILDING
        for minutes in wanted:
            subject = f"{known.brief.id} {minutes}"
            soon = working and end is not None and look.now >= end.likely - timedelta(minutes=minutes)
            if soon or subject in open_now:
                at = look.fleet.words(end.likely, look.now) if end else "soon"
                text = f"{known.row.name} will be done at {at}: {known.brief.file}"
                found.append(Found(subject, text, None, {**look.machine(known), "count": minutes}))
    return found


async def beds_together(look: ShopLook) -> list[Found]:
    """Beds of a site that end within minutes of each other, in the next hour; each build is told of once."""
    if look.planned is None:
        return []
    f, by_name = look.planned.forecast, {known.row.name: known for known in look.fleet.all()}
    running = {
        name: (end.likely, known)
        for name, end in f.ends.items()
        if (known := by_name.get(name)) and known.brief and known.brief.outcome is None
        and known.row.state == MachineState.BUILDING
    }  # fmt: skip
    found, told = list[Found](), set[int]()
    for subject in look.open[NoticeKind.BEDS_TOGETHER]:
        those = {int(n) for n in subject.split("-") if n.isdigit()}
        if any(known.brief and known.brief.id in those for _, known in running.values()):
            told |= those
            left = [(at, name) for name, (at, known) in running.items() if known.brief and known.brief.id in those]
            names = ", ".join(name for _, name in sorted(left))
            many = f"{len(left)} beds end" if len(left) > 1 else "One bed more ends"
            text = f"{many} around {look.fleet.words(min(left)[0], look.now)}: {names}"
            found.append(Found(subject, text, renewed=True))
    for together in conflicts(look.planned.snapshot, f, lambda at: look.fleet.words(at, f.at)):
        here = [running[name] for name in together.machines if name in running]
        builds = sorted(known.brief.id for _, known in here if known.brief)
        if len(here) < 3 or together.at > look.now + TOGETHER_AHEAD or told & set(builds):
            continue
        found.append(Found("-".join(map(str, builds))[:90], together.text))
    return found


async def _due(look: ShopLook, word: str) -> list[Found]:
    """Orders in work with a due time of which this is promised. Looked at once for all words."""
    if look.promised is None:
        look.promised = await _promises(look)
    return look.promised.get(word, [])


async def _promises(look: ShopLook) -> dict[str, list[Found]]:
    in_work = select(t.Job.order_id).where(t.Job.open, t.Job.order_id.is_not(None)).distinct()
    query = select(t.Order).where(t.Order.id.in_(in_work), ~t.Order.cancelled, t.Order.due_at.is_not(None))
    rows = (await look.db.execute(query.order_by(t.Order.due_at).limit(MOST_ORDERS))).scalars().all()
    lines = await order_records.jobs_of(look.db, [row.id for row in rows])
    copies = await copies_of(look.db, [job for many in lines.values() for job in many])
    found: dict[str, list[Found]] = {}
    for row in rows:
        await asyncio.sleep(0)  # others are served in between
        brief = look.orders.brief(row, lines[row.id], copies)
        if brief.due is None or brief.expected is None:
            continue
        how = "may" if brief.promise == "at risk" else "will"
        chance = "" if brief.chance is None else f", in time {round(100 * brief.chance)} of 100 times"
        due, done = look.fleet.words(brief.due, look.now), look.fleet.words(brief.expected.likely, look.now)
        text = f"Order {row.id} of {row.customer} {how} be late: due {due}, complete about {done}{chance}"
        found.setdefault(brief.promise, []).append(Found(str(row.id), text, None, {"order_id": row.id}))
    return found


async def at_risk(look: ShopLook) -> list[Found]:
    return await _due(look, "at risk")


async def late(look: ShopLook) -> list[Found]:
    return await _due(look, "late")


async def no_machine(look: ShopLook) -> list[Found]:
    planned, found = look.planned, []
    unplaced = set(planned.plan.unplaced) if planned else set()
    for subject in look.open[NoticeKind.NO_MACHINE] - set(map(str, unplaced)):
        look.lasting.for_s(f"job {subject}", False, look.real_now)
    for job in sorted(unplaced)[:MOST_ORDERS] if planned else ():
        waiting = planned.waiting.get(job) if planned else None
        if waiting is None or look.lasting.for_s(f"job {job}", True, look.real_now) < STUCK_FOR_S:
            continue
        text = f"Job {job}, {waiting.name}, waits: {look.planner.why(waiting)}"
        found.append(Found(str(job), text, None, {"job_id": job, "order_id": waiting.job.order_id}))
    return found


async def spools_low(look: ShopLook) -> list[Found]:
    found = []
    for known in look.fleet.all():
        for spool in known.spools.values():
            if spool.grams_left < look.spool_low_g:
                what = f"{spool.colour} {spool.material}".strip()
                text = f"{spool.grams_left:.0f} g are left of the {what} on {known.row.name}"
                about = {"machine_id": known.row.id, "spool_id": spool.id}
                found.append(Found(str(spool.id), text, None, about))
    return found


async def spools_short(look: ShopLook) -> list[Found]:
    """Builds under way that need more of a spool than is left on it."""
    at_work = {k.brief.id: k for k in look.fleet.all() if k.brief and k.brief.outcome is None and k.spools}
    query = (
        select(t.Build.id, t.ContentReading.figures)
        .join(t.Machine, t.Machine.id == t.Build.machine_id)
        .join(t.Model, t.Model.id == t.Machine.model_id)
        .join(
            t.ContentReading,
            (t.ContentReading.model == t.Model.name)
            & (t.ContentReading.sha256 == t.Build.sha256),
        )
        .where(t.Build.id.in_(list(at_work)))
    )  # fmt: skip
    materials = await load_materials(look.db)
    found = []
    for build, figures in (await look.db.execute(query)) if at_work else ():
        known = at_work[build]
        for tool, mm in (figures or {}).get("filament_mm", {}).items():
            spool = known.spools.get(int(tool))
            short_g = materials.grams(spool.material, mm) - spool.grams_left if spool else 0.0
            if spool and short_g > SHORT_BY_G:
                what = f"{spool.colour} {spool.material}".strip()
                text = f"The {what} on {known.row.name} runs out before build {build} ends: {short_g:.0f} g are missing"
                about = {"machine_id": known.row.id, "build_id": build, "spool_id": spool.id}
                found.append(Found(f"{build} {spool.id}", text, None, about))
    return found


async def upkeep_due(look: ShopLook) -> list[Found]:
    query = (
        select(t.UpkeepWindow, t.Machine.name)
        .join(t.Machine, t.Machine.id == t.UpkeepWindow.machine_id)
        .where(t.UpkeepWindow.begin_at <= look.now, t.UpkeepWindow.end_at > look.now)
    )
    due = [
        Found(
            f"task {call.task} {known.row.id}",
            f"{known.row.name}: {call.sentence}."
            + (" It takes no work until that is done." if call.blocks is Blocks.CLOSES else ""),
            Gravity.ACT if call.blocks is Blocks.CLOSES else None,
            {"machine_id": known.row.id},
        )
        for known in look.fleet.all()
        for call in known.upkeep
        if call.blocks is not Blocks.NOTHING
    ]
    return due + [
        Found(
            str(row.id),
            f"{name} is kept free for upkeep until {look.fleet.words(row.end_at, look.now)}: {row.text or 'see to it'}",
            None,
            {"machine_id": row.machine_id},
        )
        for row, name in await look.db.execute(query)
    ]


async def in_trouble(look: ShopLook) -> list[Found]:
    """What health says of the service itself. What is measured is left out of the subject: it changes all the time."""
    return [
        Found(
            " ".join(w for w in text.split() if not any(c.isdigit() for c in w))[:80],
            f"{text[:1].upper()}{text[1:]}.",
            Gravity.URGENT if urgent else Gravity.ACT,
        )
        for text, urgent in look.troubles
    ]


HOLDS: dict[NoticeKind, Callable[[ShopLook], Awaitable[list[Found]]]] = {
    NoticeKind.MACHINE_DOWN: down,
    NoticeKind.BUILD_PAUSED: paused,
    NoticeKind.BUILD_FAILED: failed,
    NoticeKind.RELEASE_STUCK: stuck_parts,
    NoticeKind.SUSPICION: suspected,
}
"""What is opened where it happens; here it is only looked at whether it is still so."""

CONDITIONS: dict[NoticeKind, Callable[[ShopLook], Awaitable[list[Found]]]] = {
    NoticeKind.MACHINE_OFFLINE: offline,
    NoticeKind.TENDER_AWAY: tenders_away,
    NoticeKind.HANDS_SOON: hands_soon,
    NoticeKind.BEDS_TOGETHER: beds_together,
    NoticeKind.ORDER_AT_RISK: at_risk,
    NoticeKind.ORDER_LATE: late,
    NoticeKind.NO_MACHINE: no_machine,
    NoticeKind.SPOOL_LOW: spools_low,
    NoticeKind.SPOOL_SHORT: spools_short,
    NoticeKind.UPKEEP_DUE: upkeep_due,
    NoticeKind.SERVICE: in_trouble,
}
"""What is opened when it is found to be so, and closed when it is not any more."""
