"""What the disk is taken by, as the records know it, and how that was on earlier days."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime

from sqlalchemy import delete, exists, select, text
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from chronarch.records.library.tables import Revision
from chronarch.records.orders.tables import Build, Job
from chronarch.records.system.tables import StorageDay

CONTENTS = text(
    """
    select coalesce(sum(if(standing = 0, size, 0)), 0), coalesce(sum(if(standing = 1, size, 0)), 0),
        coalesce(sum(if(standing = 2, size, 0)), 0), coalesce(sum(if(standing = 3, size, 0)), 0)
    from (
        select b.size, min(case when f.id is null or f.emptied then 3 when f.binned_at is not null then 2
            when r.number < f.newest then 1 else 0 end) standing
        from `blob` b left join revision r on r.sha256 = b.sha256 left join file f on f.id = r.file_id
        group by b.sha256, b.size
    ) contents
    """
)
"""Bytes of contents, each counted once: of files' newest revisions, of earlier ones, of what lies in the bin, and of
what builds and machines have besides."""
TABLES = text(
    "select coalesce(sum(if(table_name in ('reading', 'reading_mean', 'sensor_reading', 'sensor_mean'),"
    " data_length + index_length, 0)), 0), coalesce(sum(data_length + index_length), 0)"
    " from information_schema.tables where table_schema = database()"
)


async def contents(db: AsyncSession) -> tuple[int, int, int, int]:
    """Bytes of newest revisions, of earlier ones, of the bin, and of what else is kept by content."""
    newest, earlier, binned, other = (await db.execute(CONTENTS)).one()
    return int(newest), int(earlier), int(binned), int(other)


async def tables(db: AsyncSession) -> tuple[int, int]:
    """Bytes of heat over time, and of everything else in the database, as it estimates them itself."""
    readings, every = (await db.execute(TABLES)).one()
    return int(readings), int(every) - int(readings)


async def keep_day(db: AsyncSession, day: date, parts: Mapping[str, int], first: date) -> None:
    """Keep what each part takes on a day, and forget days before `first`. Committed by whoever asks."""
    for part, size in parts.items():
        row = insert(StorageDay).values(day=day, part=part, size=size)
        await db.execute(row.on_duplicate_key_update(size=size))
    await db.execute(delete(StorageDay).where(StorageDay.day < first))


async def days(db: AsyncSession, since: date) -> Sequence[StorageDay]:
    """What was kept since a day, by day."""
    query = select(StorageDay).where(StorageDay.day >= since).order_by(StorageDay.day, StorageDay.part)
    return (await db.execute(query)).scalars().all()


async def needless_revisions(db: AsyncSession, before: datetime, most: int) -> Sequence[Revision]:
    """Earlier revisions that were added before a time, that nothing was built from, and that no open job stays with."""
    later = aliased(Revision)
    newer = exists().where(later.file_id == Revision.file_id, later.number > Revision.number)
    built = exists().where(Build.file_id == Revision.file_id, Build.revision == Revision.number)
    pinned = exists().where(Job.open, Job.file_id == Revision.file_id, Job.pinned == Revision.number)
    query = select(Revision).where(Revision.added_at < before, newer, ~built, ~pinned)
    return (await db.execute(query.order_by(Revision.id).limit(most))).scalars().all()


async def old_logs(db: AsyncSession, before: datetime, most: int) -> Sequence[Build]:
    """Builds that ended before a time and whose line logs are kept."""
    query = select(Build).where(Build.log_bytes.is_not(None), Build.ended_at < before)
    return (await db.execute(query.order_by(Build.id).limit(most))).scalars().all()
