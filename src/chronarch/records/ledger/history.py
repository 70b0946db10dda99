"""Builds that have ended, with what the ledger says of them."""

from __future__ import annotations

from datetime import UTC

from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import EndedBuild
from chronarch.core.machines.states import Outcome

_ENDED = """
select m.name, c.name, c.site, b.planned_s,
       (select coalesce(sum(timestampdiff(microsecond, l.begin_at, least(l.end_at, b.ended_at))), 0) / 1e6
          from ledger l where l.build_id = b.id and l.state in ('warming', 'building')),
       coalesce(b.outcome, ''), coalesce(b.verdict, ''),
       (select min(l.begin_at) from ledger l where l.build_id = b.id and l.state = 'uncleared'),
       b.cleared_at, b.let_go
  from (select b.* from build b where b.state = 'ended' {more} order by b.id desc limit {limit}) b
  join machine c on c.id = b.machine_id join model m on m.id = c.model_id
 order by b.id desc
"""
COMPLETED = "and b.outcome = 'completed' and b.planned_s > 0"
CLEARED = "and b.cleared_at is not null"
OF_FILE, OF_PART = "and b.file_id = :which", "and b.file_id in (select id from file where part_id = :which)"
MOST_BUILDS = 5000
"""So many builds of a file or part count."""


async def ended_builds(db: AsyncSession, more: str, limit: int, **values: object) -> list[EndedBuild]:
    """The newest builds that have ended, newest first. `more` is one of the conditions above."""
    rows = await db.execute(text(_ENDED.format(more=more, limit=limit)), values)
    return [
        EndedBuild(model, machine, site, planned, float(busy), outcome == Outcome.COMPLETED, verdict,
                   ready and ready.replace(tzinfo=UTC), cleared and cleared.replace(tzinfo=UTC), bool(let_go))
        for model, machine, site, planned, busy, outcome, verdict, ready, cleared, let_go in rows
    ]  # fmt: skip
