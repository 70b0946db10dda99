"""Reading the library's records: files with their newest revision and readings, parts, history, learned pace."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, and_, case, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute

from chronarch.core.names import as_number
from chronarch.core.states import Outcome, Verdict
from chronarch.records import tables as t
from chronarch.wire import library as w

LEARN_FROM = 3
"""Builds on a model before its pace is believed."""


@dataclass
class Kept:
    """A file of the library with one of its revisions, and what that says by model."""

    file: t.File
    revision: t.Revision
    size: int
    part: str | None = None
    readings: dict[str, t.ContentReading] = field(default_factory=dict)

    def reading(self, model: str = "") -> t.ContentReading:
        """By a model, or by the first there is."""
        return (self.readings.get(model) if model else None) or next(iter(self.readings.values()))


async def models_of(db: AsyncSession) -> list[t.Model]:
    return list((await db.execute(select(t.Model).order_by(t.Model.id))).scalars())


async def kept(db: AsyncSession, *where: ColumnElement[bool], revision: int | None = None) -> list[Kept]:
    """Files that meet conditions, each with its newest revision or the one of a number; newest first."""
    number: Any = t.File.newest if revision is None else revision
    query = (
        select(t.File, t.Revision, t.Blob.size, t.Part.name)
        .join(t.Revision, and_(t.Revision.file_id == t.File.id, t.Revision.number == number))
        .join(t.Blob, t.Blob.sha256 == t.Revision.sha256)
        .outerjoin(t.Part, t.Part.id == t.File.part_id)
        .where(*where)
        .order_by(t.Revision.id.desc())
    )
    found = [Kept(file, revised, size, part) for file, revised, size, part in await db.execute(query)]
    await add_readings(db, found)
    return found


async def add_readings(db: AsyncSession, found: Sequence[Kept]) -> None:
    """Read what the contents say, the shop's models in the order they were added."""
    if not found:
        return
    order = {model.name: n for n, model in enumerate(await models_of(db))}
    rows = await db.execute(
        select(t.ContentReading).where(t.ContentReading.sha256.in_({k.revision.sha256 for k in found}))
    )
    by_content: dict[str, list[t.ContentReading]] = {}
    for row in rows.scalars():
        by_content.setdefault(row.sha256, []).append(row)
    for k in found:
        rows_ = sorted(by_content.get(k.revision.sha256, []), key=lambda r: order.get(r.model, 1000))
        k.readings = {r.model: r for r in rows_}


async def find(db: AsyncSession, which: int | str, *, binned: bool = False, revision: int | None = None) -> Kept | None:
    """A file by number or name; one in the bin only by number and when asked."""
    number = which if isinstance(which, int) else as_number(which)
    if number is not None:
        found = await kept(db, t.File.id == number, revision=revision)
        if found and not found[0].file.emptied and (binned or found[0].file.binned_at is None):
            return found[0]
    found = await kept(db, t.File.live_name == str(which), revision=revision)
    return found[0] if found else None


def file_wire(k: Kept, paces: dict[str, w.Pace], model: str = "") -> w.File:
    reading = k.reading(model)
    times = {name: r.planned_s for name, r in k.readings.items() if name}
    return w.File(
        id=k.file.id,
        name=k.file.name,
        folder=k.file.folder,
        notes=k.file.notes,
        tags=k.file.tags,
        part=k.part,
        part_id=k.file.part_id,
        pieces=k.file.pieces,
        revision=k.revision.number,
        sha256=k.revision.sha256,
        size=k.size,
        added_at=k.revision.added_at,
        added_by=k.revision.added_by,
        binned_at=k.file.binned_at,
        reading=w.FileReading.model_validate(reading.figures),
        times=times,
        expected={name: s * paces[name].pace for name, s in times.items() if name in paces},
    )


async def revisions(db: AsyncSession, file: int) -> list[w.Revision]:
    """Newest first."""
    rows = await db.execute(
        select(t.Revision, t.Blob.size)
        .join(t.Blob, t.Blob.sha256 == t.Revision.sha256)
        .where(t.Revision.file_id == file)
        .order_by(t.Revision.number.desc())
    )
    return [
        w.Revision(number=r.number, sha256=r.sha256, size=size, how=r.how, added_at=r.added_at, added_by=r.added_by)
        for r, size in rows
    ]


async def next_revision(db: AsyncSession, file: t.File, sha256: str, how: str, at: datetime, by: str) -> t.Revision:
    """Give a file new content. The row must be locked by the caller."""
    file.newest = 1 + (
        (await db.execute(select(func.max(t.Revision.number)).where(t.Revision.file_id == file.id))).scalar() or 0
    )
    row = t.Revision(file_id=file.id, number=file.newest, sha256=sha256, how=how[:300], added_at=at, added_by=by)
    db.add(row)
    return row


async def in_use(db: AsyncSession, files: Iterable[int]) -> dict[int, str]:
    """Files that may not go to the bin now, and why: queued (by themselves or through their part) or on a machine."""
    wanted = set(files)
    if not wanted:
        return {}
    building = await db.execute(
        select(t.Build.file_id, t.Machine.name)
        .join(t.Machine, t.Machine.id == t.Build.machine_id)
        .where(t.Build.file_id.in_(wanted), t.Build.cleared_at.is_(None))
    )
    found = {file: f"is on {machine}" for file, machine in building}
    yields = func.coalesce(t.Build.good_pieces, t.Build.pieces)
    good = t.Job.from_stock + func.coalesce(func.sum(case((t.Build.verdict == Verdict.GOOD, yields), else_=0)), 0)
    queued = await db.execute(
        select(t.Job.id, t.File.id)
        .join(t.File, (t.File.id == t.Job.file_id) | (t.File.part_id == t.Job.part_id))
        .outerjoin(t.Build, t.Build.job_id == t.Job.id)
        .where(t.File.id.in_(wanted), ~t.Job.withdrawn)
        .group_by(t.Job.id, t.File.id, t.Job.copies, t.Job.from_stock)
        .having(good < t.Job.copies)
    )
    for job, file in queued:
        found.setdefault(file, f"is queued (job {job})")
    return found


async def overruled(db: AsyncSession, contents: Iterable[str]) -> dict[tuple[str, str], dict[str, str]]:
    """By (content, model): the rules a person has set aside, with who and why."""
    rows = await db.execute(select(t.Overruling).where(t.Overruling.sha256.in_(set(contents))))
    found: dict[tuple[str, str], dict[str, str]] = {}
    for row in rows.scalars():
        found.setdefault((row.sha256, row.model), {})[row.rule] = f"{row.by}: {row.reason}"
    return found


_REAL = """
select m.name, b.id, b.file_id, f.part_id, b.planned_s, coalesce(b.verdict, ''), coalesce(b.outcome, ''), c.name,
       (select coalesce(sum(timestampdiff(microsecond, l.begin_at, least(l.end_at, b.ended_at))), 0) / 1e6
          from ledger l where l.build_id = b.id and l.state in ('warming', 'building'))
  from build b join machine c on c.id = b.machine_id join model m on m.id = c.model_id join file f on f.id = b.file_id
 where b.state = 'ended' {more} order by b.id desc limit {limit}
"""
"""Ended builds with the shop seconds they were warming or building: pauses and cooling are not counted."""


async def _ended(db: AsyncSession, more: str, limit: int, **values: object) -> Sequence[Any]:
    return (await db.execute(text(_REAL.format(more=more, limit=limit)), values)).all()


async def learned_paces(db: AsyncSession) -> dict[str, w.Pace]:
    """By model: real seconds a planned second of the newest completed builds took, where there are enough of them."""
    planned: dict[str, list[float]] = {}
    for model, _, _, _, plan, _, _, _, real in await _ended(db, "and b.outcome = 'completed' and b.planned_s > 0", 600):
        if real > 0:
            planned.setdefault(model, []).append(float(real) / plan)
    return {
        model: w.Pace(model=model, pace=_middle(ratios[:100]), builds=len(ratios[:100]))
        for model, ratios in planned.items()
        if len(ratios) >= LEARN_FROM
    }


def _middle(values: list[float]) -> float:
    """The median, which one build that went astray does not move."""
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


async def parts_wire(db: AsyncSession, rows: Sequence[t.Part], paces: dict[str, w.Pace]) -> list[w.Part]:
    files: dict[int, list[w.File]] = {}
    if rows:
        for k in await kept(db, t.File.part_id.in_([p.id for p in rows]), t.File.binned_at.is_(None)):
            files.setdefault(k.file.part_id or 0, []).append(file_wire(k, paces))
    return [
        w.Part(
            id=p.id,
            name=p.name,
            notes=p.notes,
            shape=w.PartShape.model_validate({k: v for k, v in p.shape.items() if k != "sha256"}) if p.shape else None,
            files=sorted(files.get(p.id, []), key=lambda f: f.name),
            added_at=p.added_at,
            added_by=p.added_by,
        )
        for p in rows
    ]


async def alike(
    db: AsyncSession, names: InstrumentedAttribute[str], name: str, *where: ColumnElement[bool]
) -> list[str]:
    """Other names that differ from `name` in upper and lower case only."""
    query = select(names).where(func.lower(names) == name.lower(), names != name, *where).order_by(names).limit(10)
    return list((await db.execute(query)).scalars())
