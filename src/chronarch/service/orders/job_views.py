"""Jobs as the wire shows them: copies, why they wait, when they will be done."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.states import JobState
from chronarch.core.planning.forecast import Completion, promise
from chronarch.records import tables as t
from chronarch.records.orders.jobs import job_wire, select_jobs
from chronarch.records.paging import SortKey, number
from chronarch.service.context import part
from chronarch.service.http.paging import Page
from chronarch.service.library.content_facts import ContentFactsCache
from chronarch.service.orders.outlook import JobOutlook
from chronarch.service.orders.promises import PromiseKeeper
from chronarch.service.orders.waiting_jobs import WaitingJob, jobs_as_they_are
from chronarch.wire.orders import jobs as w

OVER = (JobState.FINISHED, JobState.WITHDRAWN)
NEWEST = (number(t.Job.id, descending=True),)
IN_LINE = (number(t.Job.top, descending=True), SortKey(t.Job.line, read=float), number(t.Job.id))


@dataclass
class JobViews:
    """Shows jobs with all that is known of them now."""

    outlook: JobOutlook
    facts: ContentFactsCache
    promises: PromiseKeeper

    async def page(
        self, db: AsyncSession, page: Page, search: str = "", ended: bool = False, newest: bool = False
    ) -> list[w.Job]:
        """A page of the jobs in the order of the queue, or the newest first. The outlook must be current."""
        query = select_jobs(search) if ended else select_jobs(search).where(t.Job.open)
        rows = (await db.execute(page.of(query, *(NEWEST if newest else IN_LINE)))).scalars().all()
        return await self.of(db, page.cut(rows, lambda job: (job.id,) if newest else (int(job.top), job.line, job.id)))

    async def of(self, db: AsyncSession, rows: Sequence[t.Job]) -> list[w.Job]:
        """Jobs as of the newest outlook."""
        orders = {j.order_id for j in rows if j.order_id is not None}
        query = select(t.Order.id, t.Order.customer).where(t.Order.id.in_(orders))
        names = dict((await db.execute(query)).all()) if orders else {}
        done = self.outlook.completions()
        waiting = await jobs_as_they_are(db, self.facts, rows)
        return [self._wire(one, names.get(one.job.order_id or 0, ""), done) for one in waiting]

    async def now(self, db: AsyncSession, *rows: t.Job) -> list[w.Job]:
        """Jobs as they are after what has just been changed."""
        await self.outlook.version()
        return await self.of(db, rows)

    def _wire(self, waiting: WaitingJob, customer: str, done: dict[int, Completion | None]) -> w.Job:
        job, variants = waiting.job, waiting.needs.variants
        seconds = min((next(iter(v.facts.values())).planned_s for v in variants if v.facts), default=0.0)
        revision = variants[0].revision if variants and job.file_id is not None else None
        wire = job_wire(job, waiting.name, revision, seconds, waiting.copies, waiting.needs.pieces)
        wire.customer = customer
        if wire.state is JobState.HELD:
            wire.why = "Held by a person; release it to let it run."
        elif wire.waiting and wire.state is not JobState.WITHDRAWN:
            wire.why = self.outlook.why(waiting)
        if wire.state not in OVER and (job.id in done or wire.state is JobState.HELD):
            placed = done.get(job.id) if wire.state is not JobState.HELD else None
            expected = placed or Completion(None, None if job.due_at is None else 0.0)
            wire.expected, wire.chance = expected.when, expected.chance
            kept = self.promises.keep(job, promise(expected, job.due_at), expected, job.held, waiting.copies)
            wire.promise, wire.promise_since, wire.promise_why = kept.word, kept.since, kept.why  # type: ignore[assignment]
        elif wire.state is JobState.FINISHED:
            wire.promise = "done"
        return wire


TheJobViews = Annotated[JobViews, part(JobViews)]
