"""The shop's plan: made from a snapshot of the records, run forward, and kept until something changes."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial
from typing import Annotated

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.planning.forecast import Completion
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import (
    QueuePlan,
    Snapshot,
    WaitingWork,
)
from chronarch.core.planning.why_waiting import PlannedStart, why_waiting
from chronarch.records import tables as t
from chronarch.service.background import Background
from chronarch.service.context import ServiceContext, part
from chronarch.service.library.content_facts import ContentFactsCache
from chronarch.service.machines.fleet import Fleet
from chronarch.service.machines.learned_paces import LearnedPaces
from chronarch.service.orders.waiting_jobs import WaitingJob, jobs_as_they_are, waiting_jobs
from chronarch.service.planning.history import learn
from chronarch.service.planning.settings import PlanningSettings, load_settings
from chronarch.service.planning.snapshot import CurrentPlan, NeedRows, ShopNow, take_snapshot, up_of

PAST_FOR = timedelta(seconds=20)
GOOD_FOR_S, TIMES_AS_LONG = 3.0, 10.0
LARGE, PATIENCE_S = 600, 0.02
"""A plan of more waiting jobs and machines than this takes over 0.1 s on a quick computer: whoever looks waits that
long for it, in s, and else sees the one before."""
OLD = timedelta(hours=6)
"""A plan older than this is not continued: everything is planned anew."""


KINDS = ("builds", "files", "jobs", "machines", "models", "orders", "parts", "setup", "spools", "stock")
"""Kinds of records that a plan is made from."""


class Planner:
    """Keeps the newest plan. It is made in a thread of its own, one at a time."""

    def __init__(self, context: ServiceContext, fleet: Fleet, paces: LearnedPaces, facts: ContentFactsCache) -> None:
        self._context, self._fleet, self._paces, self._facts = context, fleet, paces, facts
        self.background = Background(context.config.database)
        self.last: CurrentPlan | None = None
        self._lock = asyncio.Lock()
        self._made_from: tuple[int, ...] = ()
        """The state of records and machines that the newest plan was made from."""
        self.many = 0
        """How many plans have been made."""
        self._making: asyncio.Task[CurrentPlan] | None = None
        self._made_at_s = self._took_s = 0.0
        self._past: ShopHistory | None = None
        self._past_at: datetime | None = None
        self._rows = NeedRows()

    def _state(self) -> tuple[int, ...]:
        return self._fleet.version, *self._context.changes.version(*KINDS)

    async def current(self) -> CurrentPlan:
        """The newest plan if it is fresh and has all that had changed when this was asked for, else a new one. What
        took long to make is fresh for longer."""
        clock, asked_at = self._context.clock, self._state()
        async with self._lock:
            age_s, good_for_s = clock.monotonic_s() - self._made_at_s, max(GOOD_FOR_S, TIMES_AS_LONG * self._took_s)
            if self.last is None or age_s > good_for_s or _older(self._made_from, asked_at):
                return await self._make()
            return self.last

    async def renew(self) -> CurrentPlan:
        """Plan as things are now. What people have seen of the plan before stays where it can."""
        async with self._lock:
            return await self._make()

    async def version(self) -> tuple[int, ...]:
        """Differs with each plan that is shown, and with the records that plans are made from."""
        await self.shown()
        return self.many, *self._state()

    async def shown(self) -> CurrentPlan:
        """The plan for whoever only looks. In a large shop that is the one before until there is a new one; listeners
        hear when there is."""
        if self.last is None or self.last.size <= LARGE:
            return await asyncio.shield(self.current())
        if self._making is None or self._making.done():
            self._making = asyncio.create_task(self.current())
        await asyncio.wait([self._making], timeout=PATIENCE_S)
        return await self._making if self._making.done() else self.last

    async def _make(self) -> CurrentPlan:
        began_s, made_from = self._context.clock.monotonic_s(), self._state()
        now = ShopNow.of(self._context.clock.now(), self._fleet, self._context.changes.version("models"))
        planned = await self.background.run(partial(self._plan, now))
        self._fleet.zone = planned.settings.zone()
        if self.last is None or _shape(self.last.plan) != _shape(planned.plan):
            self._context.changes.publish("changed", '{"what":"plan"}')
        self.last, self._made_from = planned, made_from
        self.many += 1
        self._made_at_s = self._context.clock.monotonic_s()
        self._took_s = self._made_at_s - began_s
        return planned

    async def _plan(self, now: ShopNow, db: AsyncSession) -> CurrentPlan:
        settings = await load_settings(db)
        waiting = await waiting_jobs(db, self._facts)
        paces, past = await self._paces.all(db), await self._learned(db, settings, now.at)
        planned = await take_snapshot(db, now, self._rows, paces, settings, waiting, past)
        before, fresh = self._before(planned.snapshot, settings)
        planned.plan = make_plan(planned.snapshot, before, fresh)
        planned.work_out()
        return planned

    async def released(self, jobs: Sequence[int]) -> CurrentPlan:
        """What the plan would be if jobs that are held were released now. Nothing of the shop changes."""
        now = ShopNow.of(self._context.clock.now(), self._fleet, self._context.changes.version("models"))
        return await self.background.run(partial(self._plan_with, now, jobs))

    async def _plan_with(self, now: ShopNow, jobs: Sequence[int], db: AsyncSession) -> CurrentPlan:
        settings = await load_settings(db)
        waiting = await waiting_jobs(db, self._facts)
        held = set(jobs) - {one.job.id for one in waiting}
        rows = (await db.execute(select(t.Job).where(t.Job.id.in_(held), t.Job.open).order_by(t.Job.line))).scalars()
        waiting += await jobs_as_they_are(db, self._facts, rows.all())
        paces, past = await self._paces.all(db), await self._learned(db, settings, now.at)
        planned = await take_snapshot(db, now, NeedRows(), paces, settings, waiting, past)
        planned.plan = make_plan(planned.snapshot, None)
        planned.work_out()
        return planned

    def _before(self, now: Snapshot, settings: PlanningSettings) -> tuple[QueuePlan | None, frozenset[int]]:
        """The plan before, if it still holds, and the jobs that have changed since."""
        last = self.last
        if last is None or now.at - last.plan.at > OLD or last.settings != settings:
            return None, frozenset()
        then = last.snapshot
        if last.up != up_of(now) or not _same_order(then, now):
            return None, frozenset()
        had = {w.job: w for w in then.work}
        gone = (now.at - then.at) / timedelta(seconds=1)
        return last.plan, frozenset(w.job for w in now.work if w.job in had and _changed(had[w.job], w, gone))

    async def _learned(self, db: AsyncSession, settings: PlanningSettings, at: datetime) -> ShopHistory:
        now = self._context.clock.real_now()
        if self._past is None or self._past_at is None or now - self._past_at > PAST_FOR:
            self._past, self._past_at = await learn(db, settings, at), now
        return self._past

    def why(self, waiting: WaitingJob) -> str:
        """Why a job's copies wait, in one sentence, as of the newest plan."""
        planned = self.last
        if planned is None or waiting.job.id not in planned.waiting:
            return "It is being planned."
        job, fits = waiting.job.id, planned.fits
        able = fits.able(job)
        first = {name: a.job for name in able if (a := planned.plan.next_on(name)) is not None}
        return why_waiting(
            waiting.needs.options, waiting.needs.requirement.machine, planned.machines, able,
            fits.able(job, ever=True), self._start(planned, job), first,
        )  # fmt: skip

    def _start(self, planned: CurrentPlan, job: int) -> PlannedStart | None:
        a = planned.first_of.get(job)
        if a is None:
            return None
        words = self._fleet.words(planned.plan.time(a.start_s), planned.plan.at)
        return PlannedStart(a.machine, words, a.start_s <= 1.0 and a.hands_s is None)

    def completions(self) -> dict[int, Completion | None]:
        """When each job in the newest plan will be done; None for one that no machine can make."""
        planned = self.last
        return {**dict.fromkeys(planned.plan.unplaced), **planned.forecast.jobs} if planned is not None else {}

    def circumstances(self) -> tuple[datetime, Mapping[str, object]]:
        """When the newest plan was made, and for which machines, hours and strategy."""
        planned = self.last
        if planned is None:
            return self._context.clock.now(), {}
        return planned.plan.at, {"machines": planned.up, "hours": planned.settings}

    def waits(self) -> tuple[int, float]:
        """How many copies wait, and how many seconds of building that is at the quickest machines."""
        planned = self.last
        if planned is None:
            return 0, 0.0
        seconds = sum(w.builds * w.need.shortest_s for w in planned.snapshot.work)
        return sum(w.copies.waiting for w in planned.waiting.values()), seconds

    def together(self, jobs: Sequence[int], due: datetime | None, built: set[int]) -> Completion | None:
        """When several jobs will all be done, those of `built` having nothing that waits; None without a plan."""
        return self.last.forecast.together(list(jobs), due, built) if self.last else None


ThePlanner = Annotated[Planner, part(Planner)]


def _older(one: tuple[int, ...], other: tuple[int, ...]) -> bool:
    """Whether a state of records and machines lacks something that another has. Its numbers only grow."""
    return any(had < has for had, has in zip(one, other, strict=True))


def _shape(plan: QueuePlan) -> list[tuple[str, int]]:
    return [(a.machine, a.job) for a in plan.assignments[:200]]


def _same_order(then: Snapshot, now: Snapshot) -> bool:
    """Whether the jobs that wait at both times stand in the same order."""
    both = {w.job for w in then.work} & {w.job for w in now.work}
    orders = ([w.job for w in sorted(s.work, key=lambda w: w.line) if w.job in both] for s in (then, now))
    return next(orders) == next(orders)


def _changed(old: WaitingWork, new: WaitingWork, gone: float) -> bool:
    """Whether a job is more or less urgent than before, so that it may take another place."""
    same_due = new.due_s == old.due_s or abs(new.due_s + gone - old.due_s) < 1
    return not same_due or (new.priority, new.top) != (old.priority, old.top) or new.builds > old.builds
