"""The shop's plan: made from a snapshot of the records, run forward, and kept until something changes."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Annotated

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.planning.eligibility import (
    why_waiting,
)
from chronarch.core.planning.forecast import Completion
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import (
    QueuePlan,
    SlotPhase,
    Snapshot,
    WaitingWork,
)
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet
from chronarch.service.machines.learned_paces import LearnedPaces
from chronarch.service.orders.waiting_jobs import WaitingJob, waiting_jobs
from chronarch.service.planning.history import learn
from chronarch.service.planning.settings import PlanningSettings, load_settings
from chronarch.service.planning.snapshot import (
    CurrentPlan,
    take_snapshot,
)

PAST_FOR = timedelta(seconds=20)
GOOD_FOR = timedelta(seconds=3)
OLD = timedelta(hours=6)
"""A plan older than this is not continued: everything is planned anew."""


class Planner:
    """Keeps the newest plan. `renew` is called whenever something may have changed."""

    def __init__(self, context: ServiceContext, fleet: Fleet, paces: LearnedPaces) -> None:
        self._context, self._fleet, self._paces = context, fleet, paces
        self.last: CurrentPlan | None = None
        self._lock = asyncio.Lock()
        self._made = -1
        self._made_at: datetime | None = None
        self._past: ShopHistory | None = None
        self._past_at: datetime | None = None

    async def current(self, db: AsyncSession) -> CurrentPlan:
        """The newest plan if it is fresh and no record has changed since, else a new one."""
        now = self._context.clock.real_now()
        if (
            self.last is not None
            and self._made == self._context.changes.count
            and self._made_at
            and now - self._made_at < GOOD_FOR
        ):
            return self.last
        return await self.renew(db)

    async def renew(self, db: AsyncSession, waiting: Sequence[WaitingJob] | None = None) -> CurrentPlan:
        """Plan as things are now. What people have seen of the plan before stays where it can."""
        async with self._lock:
            settings = await load_settings(db)
            self._fleet.zone = settings.zone()
            if waiting is None:
                waiting = await waiting_jobs(db)
            planned = await take_snapshot(
                db,
                self._context.clock.now(),
                self._fleet,
                await self._paces.all(db),
                settings,
                waiting,
                await self.past(db),
            )
            before, fresh = self._before(planned.snapshot, settings)
            if len(planned.snapshot.work) * len(planned.snapshot.machines) > 20_000:
                planned.plan = await asyncio.to_thread(make_plan, planned.snapshot, before, fresh)
            else:
                planned.plan = make_plan(planned.snapshot, before, fresh)
            if self.last is None or _shape(self.last.plan) != _shape(planned.plan):
                self._context.changes.publish("changed", '{"what":"plan"}')
            self.last = planned
            self._made, self._made_at = self._context.changes.count, self._context.clock.real_now()
            return planned

    def _before(self, now: Snapshot, settings: PlanningSettings) -> tuple[QueuePlan | None, frozenset[int]]:
        """The plan before, if it still holds, and the jobs that have changed since."""
        last = self.last
        if last is None or now.at - last.plan.at > OLD or last.settings != settings:
            return None, frozenset()
        then = last.snapshot
        if _up(then) != _up(now) or not _same_order(then, now):
            return None, frozenset()
        had = {w.job: w for w in then.work}
        gone = (now.at - then.at) / timedelta(seconds=1)
        return last.plan, frozenset(w.job for w in now.work if w.job in had and _changed(had[w.job], w, gone))

    async def past(self, db: AsyncSession) -> ShopHistory:
        now = self._context.clock.real_now()
        if self._past is None or self._past_at is None or now - self._past_at > PAST_FOR:
            settings = await load_settings(db)
            self._past, self._past_at = await learn(db, settings, self._context.clock.now()), now
        return self._past

    def why(self, waiting: WaitingJob) -> str:
        """Why a job's copies wait, in one sentence."""
        promised = {}
        for known in self._fleet.all():
            first = self.last.plan.next_on(known.row.name) if self.last else None
            if first is not None and first.job != waiting.job.id:
                promised[known.row.name] = f"takes job {first.job} first"
        standings = [self._fleet.standing(known) for known in self._fleet.all()]
        return why_waiting(waiting.options, waiting.requirement.machine, standings, promised)

    def completions(self) -> dict[int, Completion | None]:
        """When each job in the newest plan will be done; None for one that no machine can make."""
        if self.last is None:
            return {}
        return {**dict.fromkeys(self.last.plan.unplaced), **self.last.forecast().jobs}

    def together(self, jobs: Sequence[int], due: datetime | None, built: set[int]) -> Completion | None:
        """When several jobs will all be done, those of `built` having nothing that waits; None without a plan."""
        return self.last.forecast().together(list(jobs), due, built) if self.last else None


ThePlanner = Annotated[Planner, part(Planner)]


def _shape(plan: QueuePlan) -> list[tuple[str, int]]:
    return [(a.machine, a.job) for a in plan.assignments[:200]]


def _up(snapshot: Snapshot) -> set[tuple[str, bool, bool]]:
    return {(m.name, m.takes, m.phase is SlotPhase.AWAY) for m in snapshot.machines}


def _same_order(then: Snapshot, now: Snapshot) -> bool:
    """Whether the jobs that wait at both times stand in the same order."""
    both = {w.job for w in then.work} & {w.job for w in now.work}
    orders = ([w.job for w in sorted(s.work, key=lambda w: w.line) if w.job in both] for s in (then, now))
    return next(orders) == next(orders)


def _changed(old: WaitingWork, new: WaitingWork, gone: float) -> bool:
    """Whether a job is more or less urgent than before, so that it may take another place."""
    same_due = new.due_s == old.due_s or abs(new.due_s + gone - old.due_s) < 1
    return not same_due or (new.priority, new.top) != (old.priority, old.top) or new.builds > old.builds
