"""What became of builds: learned paces, outcomes of files and parts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import Outcome
from chronarch.core.orders.states import Verdict
from chronarch.wire import ledger as w

LEARN_FROM = 3
"""How many builds on a model are needed before its pace is believed."""


_REAL = """
select m.name, b.id, b.file_id, f.part_id, b.planned_s, coalesce(b.verdict, ''), coalesce(b.outcome, ''), c.name,
       (select coalesce(sum(timestampdiff(microsecond, l.begin_at, least(l.end_at, b.ended_at))), 0) / 1e6
          from ledger l where l.build_id = b.id and l.state in ('warming', 'building'))
  from build b join machine c on c.id = b.machine_id join model m on m.id = c.model_id join file f on f.id = b.file_id
 where b.state = 'ended' {more} order by b.id desc limit {limit}
"""
"""Ended builds with the shop seconds in which they were warming or building; pauses and cooling do not count."""


async def _ended(db: AsyncSession, more: str, limit: int, **values: object) -> Sequence[Any]:
    return (await db.execute(text(_REAL.format(more=more, limit=limit)), values)).all()


async def learned_paces(db: AsyncSession) -> dict[str, w.ModelPace]:
    """By model: real seconds for each planned second of the newest completed builds, if there are enough of them."""
    planned: dict[str, list[float]] = {}
    for model, _, _, _, plan, _, _, _, real in await _ended(db, "and b.outcome = 'completed' and b.planned_s > 0", 600):
        if real > 0:
            planned.setdefault(model, []).append(float(real) / plan)
    return {
        model: w.ModelPace(model=model, pace=_middle(ratios[:100]), builds=len(ratios[:100]))
        for model, ratios in planned.items()
        if len(ratios) >= LEARN_FROM
    }


def _middle(values: list[float]) -> float:
    """The median, which a single odd build does not move."""
    ordered = sorted(values)
    n = len(ordered)
    return ordered[n // 2] if n % 2 else (ordered[n // 2 - 1] + ordered[n // 2]) / 2


async def history(db: AsyncSession, *, file: int | None = None, part: int | None = None) -> w.History:
    """What became of all builds of a file or of a part's files."""
    more, value = ("and b.file_id = :which", file) if file is not None else ("and f.part_id = :which", part)
    rows = await _ended(db, more, 5000, which=value)
    machines: dict[str, int] = {}
    models: dict[str, w.ModelHistory] = {}
    for model, _, _, _, planned, verdict, outcome, machine, real in rows:
        machines[machine] = machines.get(machine, 0) + 1
        m = models.setdefault(
            model, w.ModelHistory(model=model, builds=0, good=0, scrap=0, completed=0, planned_s=0, real_s=0)
        )
        m.builds += 1
        m.good += verdict == Verdict.GOOD
        m.scrap += verdict == Verdict.SCRAP
        if outcome == Outcome.COMPLETED and real > 0:
            m.completed += 1
            m.planned_s += planned
            m.real_s += float(real)
    good, scrap = (sum(getattr(m, name) for m in models.values()) for name in ("good", "scrap"))
    return w.History(builds=len(rows), good=good, scrap=scrap, unjudged=len(rows) - good - scrap,
                     machines=machines, models=list(models.values()))  # fmt: skip
